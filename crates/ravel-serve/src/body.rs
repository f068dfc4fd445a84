//! A body that writes down what was sent of it.

use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Instant;

use bytes::{Buf, Bytes};
use http_body::{Body as HttpBody, Frame, SizeHint};

use crate::Log;
use crate::log::ReaderPlace;
use crate::record::{RecordDraft, SentResponse};
use crate::respond::Body;

/// A response's body; the request is logged when it has been sent, or given up.
pub struct SentBody {
    body: Body,
    begun: Instant,
    sent: SentResponse,
    pending: Option<(RecordDraft, Arc<Log>, ReaderPlace)>,
}

impl std::fmt::Debug for SentBody {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SentBody").field("sent", &self.sent).finish_non_exhaustive()
    }
}

impl SentBody {
    pub(crate) fn new(
        body: Body,
        sent: SentResponse,
        begun: Instant,
        pending: (RecordDraft, Arc<Log>, ReaderPlace),
    ) -> SentBody {
        SentBody { body, begun, sent, pending: Some(pending) }
    }
}

impl HttpBody for SentBody {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, std::io::Error>>> {
        let polled = Pin::new(&mut self.body).poll_frame(context);
        if let Poll::Ready(Some(Ok(frame))) = &polled
            && let Some(data) = frame.data_ref()
        {
            self.sent.body_bytes += data.remaining() as u64;
        }
        if let Poll::Ready(None) = &polled {
            self.sent.complete = true;
        }
        polled
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

impl Drop for SentBody {
    fn drop(&mut self) {
        let Some((draft, log, place)) = self.pending.take() else { return };
        let mut sent = std::mem::take(&mut self.sent);
        sent.complete |= self.body.is_end_stream();
        sent.duration = self.begun.elapsed();
        log.add(draft.sent(sent), place);
    }
}
