//! `ravel serve`: the site as the rules answer it, over HTTP and HTTPS.

use std::io::{IsTerminal, Write};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ravel_serve::{Live, Options, ReadError, Record, ServeError, Server};
use serde_json::json;
use tracing_subscriber::EnvFilter;

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
    /// The folder with the local certificate authority, which is made on first use
    #[arg(long, value_name = "FOLDER")]
    authority: Option<PathBuf>,
    /// Print a line of data for each request
    #[arg(long)]
    json: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let filter = EnvFilter::try_from_env("RAVEL_LOG").unwrap_or_else(|_| EnvFilter::new("warn"));
    let _ =
        tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).try_init();
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
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(serve(options, arguments.json, out))
}

async fn serve(options: Options, json: bool, out: &mut dyn Write) -> crate::Outcome {
    if !options.listen().is_loopback() {
        anstream::eprintln!(
            "{}warning{:#}: everybody who reaches {} can see the site",
            style::NOTE,
            style::NOTE,
            options.listen()
        );
    }
    let server = Server::bind(options).await.map_err(failure)?;
    let mut requests = server.log().subscribe();
    let live = Arc::clone(server.live());
    match json {
        true => writeln!(out, "{}", begun(&server))?,
        false => greet(&server, out)?,
    }
    out.flush()?;
    let (ended, mut end) = tokio::sync::oneshot::channel::<()>();
    let running = tokio::spawn(server.run(interrupted(), move |good| changed(&live, good)));
    let running = tokio::spawn(async move {
        let _ = running.await;
        let _ = ended.send(());
    });
    loop {
        let record = tokio::select! {
            record = requests.recv() => record,
            _ = &mut end => break,
        };
        if let Ok(record) = record {
            match json {
                true => {
                    serde_json::to_writer(&mut *out, &*record).map_err(std::io::Error::from)?;
                    writeln!(out)?;
                }
                false => writeln!(out, "{}", line(&record))?,
            }
            out.flush()?;
        }
    }
    let _ = running.await;
    if !json {
        writeln!(out, "{}", in_style(FAINT, "ended"))?;
    }
    Ok(ExitStatus::Well)
}

fn failure(error: ServeError) -> Failure {
    match error {
        ServeError::Read(ReadError::Rules(found, texts)) => {
            anstream::eprintln!("{}", problems::render(&found, &texts));
            Failure::Message(String::new())
        }
        error => Failure::Message(error.to_string()),
    }
}

/// Says where the site is.
fn greet(server: &Server, out: &mut dyn Write) -> std::io::Result<()> {
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
    writeln!(
        out,
        "The local authority's certificate, for those who want to trust it:  {}",
        server.authority().display()
    )?;
    writeln!(out, "{}\n", in_style(FAINT, "Ctrl-C ends it."))
}

fn begun(server: &Server) -> serde_json::Value {
    let addresses = server.addresses();
    json!({
        "http": addresses.http().to_string(),
        "https": addresses.https().to_string(),
        "inspect": addresses.inspect().to_string(),
        "authority": server.authority().display().to_string(),
    })
}

/// A request in one line.
fn line(record: &Record) -> String {
    let style = match record.status() {
        200..=299 => style::GOOD,
        300..=399 => anstyle::AnsiColor::Blue.on_default(),
        400..=499 => style::NOTE,
        _ => style::BAD,
    };
    let led = match (record.location(), record.file()) {
        (Some(location), _) => format!("→ {location}"),
        (None, Some(file)) => file.to_owned(),
        (None, None) => record.outcome().to_owned(),
    };
    let by = record.line().unwrap_or_default();
    format!(
        "{} {:<4} {} {led}  {}",
        in_style(style, record.status()),
        record.method(),
        record.url(),
        in_style(FAINT, by)
    )
}

/// Shows the problems of rules that were changed for the worse.
fn changed(live: &Live, good: bool) {
    match (good, live.problem().as_deref()) {
        (true, _) => tracing::info!("the site was read again"),
        (false, Some(ReadError::Rules(found, texts))) => {
            anstream::eprintln!("{}", problems::render(found, texts));
            anstream::eprintln!(
                "{}the last good rules are answering{:#}",
                style::NOTE,
                style::NOTE
            );
        }
        (false, problem) => {
            let why = problem.map_or(String::new(), ToString::to_string);
            anstream::eprintln!(
                "{}: {why}; what was there before is served",
                in_style(style::NOTE, "the site cannot be read again")
            );
        }
    }
}

pub(crate) async fn interrupted() {
    // Where signals cannot be waited for, only the end of the process ends it.
    if tokio::signal::ctrl_c().await.is_err() {
        std::future::pending::<()>().await;
    }
    if std::io::stderr().is_terminal() {
        anstream::eprintln!();
    }
}
