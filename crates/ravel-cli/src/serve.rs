//! `ravel serve`: the site as the rules answer it, over HTTP and HTTPS.

use std::io::{IsTerminal, Write};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use ravel_serve::{
    Authority, Forwards, Live, NameServer, OldEdition, Options, ReadError, Record, ServeError,
    Server, ServerEvent,
};
use serde_json::json;
use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

use crate::edition::EditionRules;
use crate::serve_zone::{follow, name_server};
use crate::style::{FAINT, STRONG, in_style};
use crate::{ExitStatus, Failure, problems, style};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The port of plain HTTP; 0 picks a free one
    #[arg(long, value_name = "PORT", default_value_t = 8080)]
    http: u16,
    /// The port of HTTPS; 0 picks a free one
    #[arg(long, value_name = "PORT", default_value_t = 8443)]
    https: u16,
    /// The port of the page that shows each request; 0 picks a free one
    #[arg(long, value_name = "PORT", default_value_t = 8090)]
    inspect: u16,
    /// The address to listen on; with another than loopback, others on the network can see the site
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1")]
    listen: IpAddr,
    /// Serve also the zone of the rules' domain as a name server, on this port, over UDP and TCP;
    /// 0 picks a free one
    #[arg(long, value_name = "PORT")]
    dns: Option<u16>,
    /// Mark what the edition that is published until now would answer otherwise: a rules file, a
    /// folder with one, or a git revision
    #[arg(long, value_name = "OLD")]
    against: Option<String>,
    /// The built files of the old edition: a folder, or a list of names
    #[arg(long, value_name = "PATH", requires = "against")]
    old_files: Option<PathBuf>,
    /// The folder with the local certificate authority, which is made on first use
    #[arg(long, value_name = "FOLDER")]
    authority: Option<PathBuf>,
    /// Ask a local server for what answers elsewhere; WHO is the name in the rule, or its line
    #[arg(long, value_name = "WHO=URL")]
    forward: Vec<String>,
    /// Let `--forward` lead to other machines
    #[arg(long)]
    forward_anywhere: bool,
    /// Output JSON, a line for each request
    #[arg(long)]
    pub(crate) json: bool,
}

/// How long lines are gathered before they are written.
const GATHER: Duration = Duration::from_millis(5);

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    log_to_errors()?;
    let data = match &arguments.authority {
        Some(folder) => folder.clone(),
        None => directories::ProjectDirs::from("", "", "ravel")
            .map(|folders| folders.data_dir().to_owned())
            .ok_or_else(|| {
                Failure::Message(
                    "there is no home folder for the local authority; name one with `--authority`"
                        .to_owned(),
                )
            })?,
    };
    let options = Options::new(rules, data).with_listen(arguments.listen).with_ports(
        arguments.http,
        arguments.https,
        arguments.inspect,
    );
    let options = match &arguments.against {
        Some(old) => options.with_old_edition(old_edition(old, arguments, rules)?),
        None => options,
    };
    let runtime = tokio::runtime::Runtime::new()?;
    let ended = runtime.block_on(serve(options, arguments, out));
    // What still waits for a disk holds nobody up.
    runtime.shutdown_background();
    ended
}

/// Writes what happens to connections to standard error, as much as `RAVEL_LOG` asks for.
fn log_to_errors() -> Result<(), Failure> {
    let wanted = std::env::var("RAVEL_LOG").unwrap_or_else(|_| "warn".to_owned());
    let targets: Targets = wanted.parse().map_err(|_| {
        Failure::Message(format!(
            "`RAVEL_LOG` is `{wanted}`; write `error`, `warn`, `info`, `debug` or `trace`"
        ))
    })?;
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    // Another log that is there already stays.
    let _ = tracing_subscriber::registry().with(lines).with(targets).try_init();
    Ok(())
}

/// The edition that answers are compared with; without built files of its own, with those served.
fn old_edition(old: &str, arguments: &Arguments, rules: &Path) -> Result<OldEdition, Failure> {
    let old = EditionRules::read(old, rules)?;
    let files = old.files(arguments.old_files.as_deref())?;
    if files.is_none() {
        let said = format!("{} has no built files: those that are served are used", old.name());
        anstream::eprintln!("{}: {said}", in_style(style::NOTE, "note"));
    }
    Ok(OldEdition::new(old.name(), old.rules().clone(), files))
}

async fn serve(options: Options, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    if !options.listen().is_loopback() {
        let (warning, place) = (in_style(style::NOTE, "warning"), options.listen());
        anstream::eprintln!("{warning}: everybody who reaches {place} can see the site");
    }
    let json = arguments.json;
    let dns = match arguments.dns {
        Some(port) => Some(name_server(options.rules(), port).await?),
        None => None,
    };
    let forwards = arguments.forward.iter().try_fold(Forwards::default(), |all, forward| {
        all.with(forward, arguments.forward_anywhere)
    });
    let forwards = forwards.map_err(Failure::Message)?;
    let server = Server::bind(options.with_forwards(forwards)).await.map_err(failure)?;
    let mut requests = server
        .log()
        .read_all()
        .ok_or_else(|| Failure::Message("the requests are read already".to_owned()))?;
    let live = Arc::clone(server.live());
    match json {
        true => writeln!(out, "{}", begun(&server, dns.as_ref().map(|(dns, _)| dns)))?,
        false => greet(&server, dns.as_ref().map(|(dns, _)| dns), out)?,
    }
    out.flush()?;
    // They end with the process.
    let _dns = dns.map(|(dns, files)| {
        tokio::spawn(follow(files, dns.zone()));
        tokio::spawn(dns.run(std::future::pending()))
    });
    let mut running = tokio::spawn(server.run(interrupted(), move |event| told(&live, event)));
    let mut ended = false;
    while !ended {
        // Without a sender there is no server any more.
        let record = tokio::select! {
            biased;
            record = requests.recv() => {
                ended = record.is_none();
                record
            }
            _ = &mut running => {
                ended = true;
                None
            }
        };
        // Many at once are written at once.
        if record.is_some() {
            tokio::time::sleep(GATHER).await;
        }
        let mut next = record.or_else(|| requests.try_recv().ok());
        while let Some(record) = next {
            write_record(&record, json, out)?;
            next = requests.try_recv().ok();
        }
        out.flush()?;
    }
    if !json {
        writeln!(out, "{}", in_style(FAINT, "ended"))?;
    }
    Ok(ExitStatus::Well)
}

/// A line for a request.
fn write_record(record: &Record, json: bool, out: &mut dyn Write) -> std::io::Result<()> {
    if !json {
        return writeln!(out, "{}", line(record));
    }
    serde_json::to_writer(&mut *out, record).map_err(std::io::Error::from)?;
    writeln!(out)
}

fn failure(error: ServeError) -> Failure {
    match error {
        ServeError::Read(error) => error.into(),
        error => Failure::Message(error.to_string()),
    }
}

/// Says where the site is.
fn greet(server: &Server, dns: Option<&NameServer>, out: &mut dyn Write) -> std::io::Result<()> {
    let addresses = server.addresses();
    let site = server.live().site();
    let site = site.rules().site();
    writeln!(
        out,
        "{} is served on its own names, with `.localhost` behind them:\n",
        in_style(STRONG, site.host())
    )?;
    let mut hosts = vec![site.host().to_string()];
    hosts.extend(site.aliases().iter().map(|alias| alias.host().to_string()));
    for host in hosts {
        writeln!(out, "  https://{host}.localhost:{}{}", addresses.https().port(), site.base())?;
        writeln!(out, "  http://{host}.localhost:{}{}", addresses.http().port(), site.base())?;
    }
    writeln!(
        out,
        "  http://localhost:{}{}  {}",
        addresses.http().port(),
        site.base(),
        in_style(FAINT, "as a preview host")
    )?;
    writeln!(
        out,
        "\nEach request, and why it was answered so:  {}",
        in_style(STRONG, format_args!("http://{}/", addresses.inspect()))
    )?;
    if let Some(dns) = dns {
        let address = dns.address();
        writeln!(
            out,
            "The zone, over UDP and TCP:  {}  {}",
            in_style(STRONG, address),
            in_style(FAINT, format_args!("ravel domain ask {address}"))
        )?;
    }
    writeln!(
        out,
        "The local authority's certificate, for those who want to trust it:  {}",
        server.authority().path().display()
    )?;
    writeln!(out, "{}\n", in_style(FAINT, "Ctrl-C ends it."))
}

fn begun(server: &Server, dns: Option<&NameServer>) -> serde_json::Value {
    let addresses = server.addresses();
    json!({
        "http": addresses.http().to_string(),
        "https": addresses.https().to_string(),
        "inspect": addresses.inspect().to_string(),
        "authority": server.authority().path().display().to_string(),
        "dns": dns.map(|dns| dns.address().to_string()),
    })
}

/// A request in one line.
fn line(record: &Record) -> String {
    let status = record.sent().status();
    let style = match status {
        200..=299 => style::GOOD,
        300..=399 => anstyle::AnsiColor::Blue.on_default(),
        400..=499 => style::NOTE,
        _ => style::BAD,
    };
    let led = match (record.location(), record.file()) {
        (Some(location), _) => format!("→ {}", printable(location)),
        (None, Some(file)) => printable(file),
        (None, None) => record.outcome().to_string(),
    };
    let by = record.line().unwrap_or_default();
    let differs = record.difference().map(|difference| {
        let before = printable(difference.before());
        in_style(style::BAD, format!("  {}: before {before}", difference.kind()))
    });
    format!(
        "{} {:<4} {} {led}  {}{}",
        in_style(style, status),
        record.request().method(),
        printable(record.request().url()),
        in_style(FAINT, by),
        differs.map(|differs| differs.to_string()).unwrap_or_default()
    )
}

/// What those must know who trusted the authority before.
fn replaced(authority: &Authority) -> String {
    format!(
        "{}: the local authority is another now, since {}; those who trusted it must trust {} anew",
        in_style(style::NOTE, "note"),
        authority.replaced().unwrap_or_default(),
        authority.path().display()
    )
}

/// A text without what a terminal would obey.
fn printable(text: &str) -> String {
    let shown = |c: char| match c.is_control() || ('\u{202a}'..='\u{202e}').contains(&c) {
        true => c.escape_unicode().to_string(),
        false => c.to_string(),
    };
    text.chars().map(shown).collect()
}

/// Shows what happens beside the requests: problems of rules that were changed for the worse.
fn told(live: &Live, event: ServerEvent) {
    match (event, live.problem().as_deref()) {
        (ServerEvent::AuthorityReplaced(authority), _) => {
            anstream::eprintln!("{}", replaced(&authority))
        }
        (ServerEvent::SiteRead, _) => tracing::info!("the site was read again"),
        (_, Some(ReadError::Rules(found, texts))) => {
            anstream::eprintln!("{}", problems::render(found, texts));
            anstream::eprintln!(
                "{}the last good rules are answering{:#}",
                style::NOTE,
                style::NOTE
            );
        }
        (_, problem) => {
            let why = problem.map_or(String::new(), ToString::to_string);
            anstream::eprintln!(
                "{}: {why}; the last good site is served",
                in_style(style::NOTE, "cannot read the site again")
            );
        }
    }
}

/// Waits for an interrupt, or to be told to end.
pub(crate) async fn interrupted() {
    // Where signals cannot be waited for, only the end of the process ends it.
    let interrupt = async {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
    };
    #[cfg(unix)]
    let told = async {
        use tokio::signal::unix::{SignalKind, signal};
        // Also where the terminal is closed: what is being answered is answered.
        match (signal(SignalKind::terminate()), signal(SignalKind::hangup())) {
            (Ok(mut told), Ok(mut left)) => tokio::select! {
                _ = told.recv() => {}
                _ = left.recv() => {}
            },
            _ => std::future::pending().await,
        }
    };
    #[cfg(not(unix))]
    let told = std::future::pending::<()>();
    tokio::select! {
        () = interrupt => {}
        () = told => {}
    }
    if std::io::stderr().is_terminal() {
        anstream::eprintln!();
    }
}
