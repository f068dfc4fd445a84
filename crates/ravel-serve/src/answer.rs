//! A small name server that answers from a zone, over UDP and TCP.

use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use async_trait::async_trait;
use hickory_net::runtime::Time;
use hickory_proto::op::{Edns, Metadata, OpCode, ResponseCode};
use hickory_proto::rr::rdata::NULL;
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::{BinDecoder, Restrict};
use hickory_server::server::{Request, RequestHandler, ResponseHandler, ResponseInfo, Server};
use hickory_server::zone_handler::MessageResponseBuilder;
use ravel_dns::Zone;
use ravel_dns::zone::{self, Lookup};
use tokio::net::{TcpListener, UdpSocket};

/// Aliases within the zone are followed so far.
const MAX_ALIASES: usize = 8;

/// A larger answer goes over TCP, as on the open Internet (RFC 9715, section 3.1).
const MAX_DATAGRAM_BYTES: u16 = 1_232;

/// How long a connection may stay without a question.
const IDLE: Duration = Duration::from_secs(10);

/// Answers that may wait to be sent on one connection.
const WAITING_ANSWERS: usize = 32;

/// Tries at finding a port that is free for both UDP and TCP.
const PORTS_TRIED: usize = 16;

/// A name server for one zone.
pub struct NameServer {
    server: Server<ZoneHandler>,
    address: SocketAddr,
    zone: ServedZone,
}

impl NameServer {
    /// Listens at this address, over UDP and TCP; on port 0, on any that is free for both.
    ///
    /// ```no_run
    /// # async fn run(zone: ravel_dns::Zone) -> std::io::Result<()> {
    /// let server = ravel_serve::NameServer::bind(zone, ([127, 0, 0, 1], 0).into()).await?;
    /// println!("dig @127.0.0.1 -p {} h.example", server.address().port());
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// Why the port cannot be had.
    pub async fn bind(zone: Zone, at: SocketAddr) -> io::Result<NameServer> {
        let (listener, socket) = both(at).await?;
        let address = listener.local_addr()?;
        let zone = ServedZone(Arc::new(RwLock::new(Arc::new(zone))));
        let mut server = Server::new(ZoneHandler { served: zone.clone() });
        server.register_socket(socket);
        server.register_listener(listener, IDLE, WAITING_ANSWERS);
        Ok(NameServer { server, address, zone })
    }

    /// The zone, to put another in its place.
    pub fn zone(&self) -> ServedZone {
        self.zone.clone()
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Answers until `end` is over.
    ///
    /// # Errors
    /// Why the listening came to an end before that.
    pub async fn run(mut self, end: impl Future<Output = ()>) -> io::Result<()> {
        tokio::select! {
            ended = self.server.block_until_done() => return ended.map_err(io::Error::other),
            () = end => {}
        }
        self.server.shutdown_gracefully().await.map_err(io::Error::other)
    }
}

async fn both(at: SocketAddr) -> io::Result<(TcpListener, UdpSocket)> {
    let mut tries = if at.port() == 0 { PORTS_TRIED } else { 1 };
    loop {
        let listener = TcpListener::bind(at).await?;
        match UdpSocket::bind(listener.local_addr()?).await {
            Ok(socket) => return Ok((listener, socket)),
            Err(error) if tries == 1 => return Err(error),
            Err(_) => tries -= 1,
        }
    }
}

struct ZoneHandler {
    served: ServedZone,
}

/// The zone that a server answers from; another can take its place while it runs.
///
/// ```no_run
/// # async fn run(zone: ravel_dns::Zone, edited: ravel_dns::Zone) -> std::io::Result<()> {
/// let server = ravel_serve::NameServer::bind(zone, ([127, 0, 0, 1], 0).into()).await?;
/// server.zone().replace(edited);
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone)]
pub struct ServedZone(Arc<RwLock<Arc<Zone>>>);

impl ServedZone {
    /// Answers from this zone from now on.
    pub fn replace(&self, zone: Zone) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(zone);
    }

    fn now(&self) -> Arc<Zone> {
        Arc::clone(&self.0.read().unwrap_or_else(PoisonError::into_inner))
    }
}

/// What is answered to a question.
struct Reply {
    code: ResponseCode,
    authoritative: bool,
    answers: Vec<Record>,
    authorities: Vec<Record>,
    soa: Vec<Record>,
    glue: Vec<Record>,
}

impl ZoneHandler {
    fn reply(&self, name: &Name, kind: RecordType, class: DNSClass) -> Reply {
        let served = self.served.now();
        let mut reply = Reply {
            code: ResponseCode::NoError,
            authoritative: true,
            answers: vec![],
            authorities: vec![],
            soa: vec![],
            glue: vec![],
        };
        let name = zone::Name::from_labels(name.iter());
        let Some(mut name) =
            name.filter(|name| class == DNSClass::IN && served.origin().holds(name))
        else {
            return Reply { code: ResponseCode::Refused, authoritative: false, ..reply };
        };
        let kind = zone::RecordType::from_code(kind.into());
        for _ in 0..=MAX_ALIASES {
            match served.lookup(&name, kind) {
                Lookup::Records(records) => {
                    reply.answers.extend(
                        records.iter().filter_map(|record| record_of(record, &name, record.ttl())),
                    );
                    if reply.answers.is_empty() {
                        reply.code = ResponseCode::NotImp;
                    }
                    return reply;
                }
                Lookup::Alias(record, target) => {
                    reply.answers.extend(record_of(record, &name, record.ttl()));
                    if !served.origin().holds(&target) {
                        return reply;
                    }
                    name = target;
                }
                Lookup::Delegated(servers) => {
                    reply.authoritative = !reply.answers.is_empty();
                    reply.authorities.extend(
                        servers
                            .iter()
                            .filter_map(|record| record_of(record, record.name(), record.ttl())),
                    );
                    // The addresses of servers that are below what is delegated.
                    let targets = servers.iter().filter_map(|record| record.data()?.target());
                    for target in targets.filter(|target| served.origin().holds(target)) {
                        for kind in [zone::RecordType::A, zone::RecordType::AAAA] {
                            let glue = served.set(&target, kind);
                            reply
                                .glue
                                .extend(glue.filter_map(|one| record_of(one, &target, one.ttl())));
                        }
                    }
                    return reply;
                }
                negative @ (Lookup::NoData | Lookup::NoName) => {
                    let soa = served.soa();
                    reply.soa.extend(record_of(soa, soa.name(), served.negative_ttl()));
                    if negative == Lookup::NoName {
                        reply.code = ResponseCode::NXDomain;
                    }
                    return reply;
                }
            }
        }
        Reply { code: ResponseCode::ServFail, ..reply }
    }
}

/// A name as the packages of packets have it.
pub(crate) fn wire_name(name: &zone::Name) -> Option<Name> {
    let mut wire = Name::from_labels(name.labels()).ok()?;
    wire.set_fqdn(true);
    Some(wire)
}

/// A record as it is sent, for the name that was asked.
fn record_of(record: &zone::Record, name: &zone::Name, ttl: u32) -> Option<Record> {
    let data = record.data()?;
    let wire = data.to_wire();
    let len = Restrict::new(u16::try_from(wire.len()).ok()?);
    let kind = RecordType::from(data.record_type().code());
    let data = match kind {
        RecordType::Unknown(_) => {
            let mut rdata = NULL::new();
            rdata.anything = wire;
            RData::Unknown { code: kind, rdata }
        }
        kind => RData::read(&mut BinDecoder::new(&wire), kind, len).ok()?,
    };
    Some(Record::from_rdata(wire_name(name)?, ttl, data))
}

#[async_trait]
impl RequestHandler for ZoneHandler {
    async fn handle_request<R: ResponseHandler, T: Time>(
        &self,
        request: &Request,
        mut handle: R,
    ) -> ResponseInfo {
        let mut metadata = Metadata::response_from_request(&request.metadata);
        let edns = request.edns.as_ref().map(|asked| {
            let mut edns = Edns::new();
            edns.set_max_payload(asked.max_payload().clamp(512, MAX_DATAGRAM_BYTES));
            edns
        });
        let mut builder = MessageResponseBuilder::from_message_request(request);
        if let Some(edns) = &edns {
            builder.edns(edns);
        }
        let reply = match request.request_info() {
            // There is but version 0 (RFC 6891, section 6.1.3).
            _ if request.edns.as_ref().is_some_and(|asked| asked.version() > 0) => {
                Err(ResponseCode::BADVERS)
            }
            Ok(info) if info.metadata.op_code == OpCode::Query => Ok(self.reply(
                &Name::from(info.query.name()),
                info.query.query_type(),
                info.query.query_class(),
            )),
            Ok(_) => Err(ResponseCode::NotImp),
            Err(_) => Err(ResponseCode::FormErr),
        };
        let sent = match &reply {
            Ok(reply) => {
                metadata.response_code = reply.code;
                metadata.authoritative = reply.authoritative;
                handle
                    .send_response(builder.build(
                        metadata,
                        &reply.answers,
                        &reply.authorities,
                        &reply.soa,
                        &reply.glue,
                    ))
                    .await
            }
            Err(code) => {
                metadata.response_code = *code;
                handle.send_response(builder.build_no_records(metadata)).await
            }
        };
        sent.unwrap_or_else(|error| {
            tracing::debug!("an answer was not sent: {error}");
            let mut metadata = Metadata::response_from_request(&request.metadata);
            metadata.response_code = ResponseCode::ServFail;
            hickory_proto::op::Header {
                metadata,
                counts: hickory_proto::op::HeaderCounts::default(),
            }
            .into()
        })
    }
}
