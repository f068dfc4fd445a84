//! What `ravel domain` is asked to do.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use ravel_dns::Moment;

use crate::EXIT_STATUS;
use crate::report::{Reports, forms};

#[derive(clap::Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(super) task: Option<Task>,
    #[command(flatten)]
    pub(super) show: ShowTask,
}

/// What is asked of a domain; `show` where nothing is said.
#[derive(Clone, clap::Subcommand)]
pub(super) enum Task {
    /// Show the records that a domain has and needs, and what is wrong with them (the default)
    #[command(after_help = EXIT_STATUS)]
    Show(ShowTask),
    /// Show what visitors get when the records change at a moment, and in which order nobody
    /// notices
    #[command(after_help = EXIT_STATUS)]
    Plan(PlanTask),
    /// Ask name servers for the records, several to compare them
    #[command(after_help = EXIT_STATUS)]
    Ask(Ask),
    /// Write the zone as it must be
    #[command(after_help = EXIT_STATUS)]
    Write(WriteTask),
}

/// Which domain, and how it is shown.
#[derive(Clone, clap::Args)]
pub(super) struct Show {
    /// Only this domain
    #[arg(long, value_name = "NAME")]
    pub(super) domain: Option<String>,
    /// Take the zone from this file instead of the one that the rules name
    #[arg(long, value_name = "FILE")]
    pub(super) zone: Option<PathBuf>,
    /// Output JSON
    #[arg(long)]
    pub(super) json: bool,
}

#[derive(Clone, clap::Args)]
pub(super) struct ShowTask {
    #[command(flatten)]
    pub(super) show: Show,
    /// Output only what to enter at the DNS host: as lines of a zone file, as CSV, or as JSON
    #[arg(long, value_name = "FORMAT", conflicts_with_all = ["json", "zone"])]
    pub(super) format: Option<EntryFormat>,
    #[command(flatten)]
    pub(super) certificate: CertificateArguments,
}

/// How certificates are looked at.
#[derive(Clone, clap::Args)]
pub(super) struct CertificateArguments {
    /// Warn of a certificate that expires within so many days
    #[arg(long, value_name = "DAYS", default_value_t = 21)]
    pub(super) warn_before: u16,
    /// Trust the certificate authorities in this file [default: those that this machine trusts]
    #[arg(long, value_name = "FILE")]
    pub(super) ca: Option<PathBuf>,
}

/// How what is to enter is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(super) enum EntryFormat {
    Zone,
    Csv,
    Json,
}

#[derive(Clone, clap::Args)]
pub(super) struct PlanTask {
    /// When the records change (RFC 3339)
    #[arg(value_name = "MOMENT")]
    pub(super) moment: Moment,
    #[command(flatten)]
    pub(super) show: Show,
    #[command(flatten)]
    pub(super) certificate: CertificateArguments,
    #[command(flatten)]
    pub(super) reports: Reports,
}

#[derive(Clone, clap::Args)]
pub(super) struct Ask {
    /// A name server's address, with its port if it is not 53 [default: the domain's own, and the resolvers]
    #[arg(value_name = "ADDRESS[:PORT]", value_parser = server)]
    pub(super) servers: Vec<SocketAddr>,
    #[command(flatten)]
    pub(super) finding: FindArguments,
    /// Ask for what this step changes, by its number in `plan` and `write --steps`
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub(super) step: Option<u16>,
    /// Ask again until everything needed is visible at every server
    #[arg(long)]
    pub(super) wait: bool,
    /// Give up waiting after so many seconds
    #[arg(long, value_name = "SECONDS", requires = "wait")]
    pub(super) timeout: Option<u64>,
    #[command(flatten)]
    pub(super) show: Show,
}

/// How the domain's own servers are found.
#[derive(Clone, clap::Args)]
pub(super) struct FindArguments {
    /// A resolver to ask, several to compare them [default: the system's]
    #[arg(long, value_name = "ADDRESS[:PORT]", value_parser = server, conflicts_with = "servers")]
    pub(super) resolver: Vec<SocketAddr>,
    /// Find them from the root down; the file has the addresses of root servers (a hints file)
    #[arg(long, value_name = "FILE", conflicts_with = "servers")]
    pub(super) root: Option<PathBuf>,
    /// The port at which name servers are asked that are found
    #[arg(long, value_name = "PORT", default_value_t = 53, conflicts_with = "servers")]
    pub(super) dns_port: u16,
}

#[derive(Clone, clap::Args)]
pub(super) struct WriteTask {
    /// The file to write
    #[arg(value_name = "FILE", required_unless_present = "steps", conflicts_with = "steps")]
    pub(super) file: Option<PathBuf>,
    /// Write the zone of each step in order to this folder, with a README of what to do when
    #[arg(long, value_name = "FOLDER", requires = "at")]
    pub(super) steps: Option<PathBuf>,
    /// With `--steps`: when the records change (RFC 3339)
    #[arg(long, value_name = "MOMENT", requires = "steps")]
    pub(super) at: Option<Moment>,
    /// Overwrite files
    #[arg(long)]
    pub(super) replace: bool,
    /// Write a signed zone without signatures for what changes, to be signed again
    #[arg(long)]
    pub(super) unsigned: bool,
    #[command(flatten)]
    pub(super) show: Show,
}

forms!(pub(super) Svg "svg" "a picture", Html "html" "a page with the steps");

impl Arguments {
    pub(crate) fn is_json(&self) -> bool {
        self.show().json || self.format() == Some(EntryFormat::Json)
    }

    /// Which domain, and how it is shown.
    pub(super) fn show(&self) -> &Show {
        match &self.task {
            None => &self.show.show,
            Some(Task::Show(task)) => &task.show,
            Some(Task::Plan(plan)) => &plan.show,
            Some(Task::Ask(ask)) => &ask.show,
            Some(Task::Write(write)) => &write.show,
        }
    }

    /// How certificates are looked at, if they are.
    pub(super) fn certificate(&self) -> Option<&CertificateArguments> {
        match &self.task {
            None => Some(&self.show.certificate),
            Some(Task::Show(task)) => Some(&task.certificate),
            Some(Task::Plan(task)) => Some(&task.certificate),
            Some(Task::Ask(_) | Task::Write(_)) => None,
        }
    }

    /// How what is to enter is written, if nothing else is wanted.
    pub(super) fn format(&self) -> Option<EntryFormat> {
        match &self.task {
            None => self.show.format,
            Some(Task::Show(task)) => task.format,
            Some(_) => None,
        }
    }

    /// What is asked of name servers, if anything is.
    pub(super) fn asks(&self) -> Option<&Ask> {
        match &self.task {
            Some(Task::Ask(ask)) => Some(ask),
            _ => None,
        }
    }
}

/// An address with a port, or without: then it is that of the DNS.
fn server(text: &str) -> Result<SocketAddr, String> {
    const DNS: u16 = 53;
    let bare = text.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(text);
    text.parse::<SocketAddr>()
        .or_else(|_| bare.parse::<IpAddr>().map(|ip| SocketAddr::new(ip, DNS)))
        .map_err(|_| "write an IP address, with a port if it is not 53, as in 192.0.2.53 or [2001:db8::53]:5353".to_owned())
}
