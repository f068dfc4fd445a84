//! Questions to name servers: over UDP, and over TCP where the answer does not fit.

use std::net::SocketAddr;
use std::time::Duration;

use futures_util::{StreamExt, stream};
use hickory_net::NetError;
use hickory_net::runtime::TokioRuntimeProvider;
use hickory_net::tcp::TcpClientStream;
use hickory_net::udp::UdpClientStream;
use hickory_net::xfer::{DnsExchange, DnsHandle};
use hickory_proto::op::{DnsRequestOptions, DnsResponse, Query, ResponseCode};
use hickory_proto::rr::{Name, Record, RecordType as Type};
use hickory_proto::serialize::binary::BinEncodable;
use ravel_dns::Requirement;
use ravel_dns::zone::{self, RecordData, RecordType};

use crate::answer::wire_name;

/// How long an answer is waited for, each time.
const PATIENCE: Duration = Duration::from_secs(2);

/// Questions that are open at one server at a time.
const AT_ONCE: usize = 4;

/// What a server says to a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerAnswer {
    /// Records of the name, with the seconds they may still be kept; none where the name has none
    /// of the type.
    Records(Vec<(RecordData, u32)>),
    /// There is no such name.
    NoName,
    /// It does not answer, with its reason.
    Refused(String),
}

/// What a name server says to what is wanted of it.
#[derive(Debug)]
pub struct ServerReport {
    pub(crate) server: SocketAddr,
    pub(crate) name: Option<String>,
    pub(crate) said: Result<Vec<ServerAnswer>, String>,
}

impl ServerReport {
    /// The server.
    pub fn server(&self) -> SocketAddr {
        self.server
    }

    /// What it is to the domain: a name server's name, or `resolver`.
    pub fn name(&self) -> Option<&str> {
        self.name.as_deref()
    }

    /// With what it is to the domain.
    #[must_use]
    pub fn named(mut self, name: impl Into<String>) -> ServerReport {
        self.name = Some(name.into());
        self
    }

    /// Its answers in the order of what is wanted; an error where it does not answer at all.
    pub fn said(&self) -> &Result<Vec<ServerAnswer>, String> {
        &self.said
    }
}

/// Asks a name server for everything that is wanted. One that is silent is given up after the first
/// question.
///
/// ```no_run
/// # async fn run(rules: ravel::Rules) {
/// let requirements = ravel_dns::Requirement::of(rules.site(), &rules.domains()[0]);
/// let report = ravel_serve::ask("192.0.2.53:53".parse().unwrap(), &requirements).await;
/// println!("{:?}", report.said());
/// # }
/// ```
pub async fn ask(server: SocketAddr, wanted: &[Requirement]) -> ServerReport {
    let Some(first) = wanted.first() else {
        return ServerReport { server, name: None, said: Ok(Vec::new()) };
    };
    if let Err(error) = question(server, first.name(), first.kind()).await {
        return ServerReport { server, name: None, said: Err(error) };
    }
    let answers = stream::iter(wanted).map(|wanted| async {
        let mut said = question(server, wanted.name(), wanted.kind())
            .await
            .unwrap_or_else(ServerAnswer::Refused);
        // Where there is no CNAME, it matters what is there instead.
        if said == ServerAnswer::Records(Vec::new()) {
            for kind in wanted.asked_instead() {
                if let (ServerAnswer::Records(all), Ok(ServerAnswer::Records(more))) =
                    (&mut said, question(server, wanted.name(), kind).await)
                {
                    all.extend(more);
                }
            }
        }
        said
    });
    ServerReport { server, name: None, said: Ok(answers.buffered(AT_ONCE).collect().await) }
}

/// One question. An error means that no answer came.
async fn question(
    server: SocketAddr,
    name: &zone::Name,
    kind: RecordType,
) -> Result<ServerAnswer, String> {
    let response = lookup(server, name, kind, true).await?;
    let kind = Type::from(kind.code());
    let name = &wire_name(name).ok_or("the name is too long")?;
    Ok(match response.metadata.response_code {
        ResponseCode::NoError => {
            let own = response
                .answers
                .iter()
                .filter(|record| record.name == *name && record.record_type() == kind);
            ServerAnswer::Records(
                own.filter_map(|record| Some((data_of(record)?, record.ttl))).collect(),
            )
        }
        ResponseCode::NXDomain => ServerAnswer::NoName,
        code => ServerAnswer::Refused(code.to_str().to_lowercase()),
    })
}

/// What a record says.
pub(crate) fn data_of(record: &Record) -> Option<RecordData> {
    let wire = record.data.to_bytes().ok()?;
    RecordData::from_wire(RecordType::from_code(record.record_type().into()), &wire)
}

/// One question, as it is answered: over TCP where the answer does not fit, and without EDNS where
/// that is not understood (RFC 6891, section 7).
pub(crate) async fn lookup(
    server: SocketAddr,
    name: &zone::Name,
    kind: RecordType,
    recursive: bool,
) -> Result<DnsResponse, String> {
    let name = &wire_name(name).ok_or("the name is too long")?;
    let kind = Type::from(kind.code());
    let mut options = DnsRequestOptions::default();
    options.recursion_desired = recursive;
    options.use_edns = true;
    let mut response = over_udp(server, name, kind, options).await.map_err(in_words)?;
    if response.metadata.response_code == ResponseCode::FormErr {
        options.use_edns = false;
        response = over_udp(server, name, kind, options).await.map_err(in_words)?;
    }
    if response.metadata.truncation {
        response = over_tcp(server, name, kind, options).await.map_err(in_words)?;
    }
    Ok(response)
}

fn in_words(error: NetError) -> String {
    match error {
        NetError::Timeout => format!("no answer within {} s", PATIENCE.as_secs()),
        NetError::Io(error) => match error.kind() {
            std::io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
            _ => error.to_string(),
        },
        error => error.to_string(),
    }
}

async fn over_udp(
    server: SocketAddr,
    name: &Name,
    kind: Type,
    options: DnsRequestOptions,
) -> Result<DnsResponse, NetError> {
    let exchange = UdpClientStream::builder(server, TokioRuntimeProvider::default())
        .with_timeout(Some(PATIENCE))
        .exchange();
    answer(exchange, name, kind, options).await
}

async fn over_tcp(
    server: SocketAddr,
    name: &Name,
    kind: Type,
    options: DnsRequestOptions,
) -> Result<DnsResponse, NetError> {
    // The connection lives as long as its provider.
    let provider = TokioRuntimeProvider::default();
    let exchange =
        TcpClientStream::exchange(server, None, PATIENCE, None, provider.clone()).await?;
    let answer = answer(exchange, name, kind, options).await;
    drop(provider);
    answer
}

async fn answer(
    exchange: DnsExchange<TokioRuntimeProvider>,
    name: &Name,
    kind: Type,
    options: DnsRequestOptions,
) -> Result<DnsResponse, NetError> {
    let mut answers = exchange.lookup(Query::query(name.clone(), kind), options);
    match tokio::time::timeout(2 * PATIENCE, answers.next()).await {
        Ok(Some(response)) => response,
        Ok(None) | Err(_) => Err(NetError::Timeout),
    }
}
