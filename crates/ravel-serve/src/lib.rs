//! A site as its edge will answer it, over HTTP and HTTPS on its real names, with a page that shows
//! each request and why.
//!
//! ```text
//!   rules + folder ──Site::read──▶ Site ──SiteService──▶ responses     (a tower::Service, for any Rust server)
//!                      ▲ watch         │
//!                  changes on disk     ├─ Server: HTTP, HTTPS by a local Authority, limits, shutdown
//!                                      └─ Log ──▶ inspector: requests, explanations, entry points, expectations, findings
//! ```
//!
//! What is answered is decided by the library alone; here files are read, bytes are sent, and names
//! and ports of this machine are put in place of those of the web.

#![warn(missing_docs)]

mod answer;
mod ask;
mod authority;
mod body;
mod certificates;
mod condition;
mod delegation;
mod encoding;
mod forward;
mod heard;
mod inspect;
mod kept;
mod live;
mod log;
mod old_edition;
mod options;
mod reach;
mod record;
mod representation;
mod respond;
mod server;
mod service;
mod site;
mod state;
mod verdict;
mod visitor;
mod watch;

pub use answer::{NameServer, ServedZone};
pub use ask::{ServerAnswer, ServerReport, ask};
pub use authority::{Authority, AuthorityError};
pub use body::SentBody;
pub use delegation::{Delegation, DelegationFault, Finder, FoundServer};
pub use forward::Forwards;
pub use live::Visitor;
pub use log::Log;
pub use old_edition::{OldEdition, RequestDifference};
pub use options::Options;
pub use reach::{ConnectOptions, machine_authorities};
pub use record::{ExplainedAnswer, Record, SentResponse, StepLine};
pub use server::{Addresses, ServeError, Server, ServerEvent};
pub use service::SiteService;
pub use site::{ReadError, Site, text_of};
pub use state::{CheckResult, Live};
pub use verdict::LiveVerdict;
