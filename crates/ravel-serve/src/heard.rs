//! The last bytes of a connection, which tell of a request that could not be read.

use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// So much is kept, in bytes.
const MAX_KEPT: usize = 4_096;

/// A stream whose last bytes are kept.
#[derive(Debug)]
pub(crate) struct Heard<IO> {
    stream: IO,
    last: LastBytes,
}

/// The last bytes of a stream.
#[derive(Debug, Clone, Default)]
pub(crate) struct LastBytes(Arc<Mutex<Vec<u8>>>);

impl<IO> Heard<IO> {
    pub(crate) fn new(stream: IO) -> (Heard<IO>, LastBytes) {
        let last = LastBytes::default();
        (Heard { stream, last: last.clone() }, last)
    }
}

impl LastBytes {
    fn keep(&self, bytes: &[u8]) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.extend_from_slice(&bytes[bytes.len().saturating_sub(MAX_KEPT)..]);
        let over = kept.len().saturating_sub(MAX_KEPT);
        kept.drain(..over);
    }

    /// The first line of the last head.
    pub(crate) fn line(&self) -> String {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let text = String::from_utf8_lossy(&kept);
        let head = text.rsplit("\r\n\r\n").find(|head| !head.is_empty()).unwrap_or_default();
        head.lines().next().unwrap_or_default().to_owned()
    }
}

impl<IO: AsyncRead + Unpin> AsyncRead for Heard<IO> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.stream).poll_read(context, buffer);
        self.last.keep(&buffer.filled()[before..]);
        polled
    }
}

impl<IO: AsyncWrite + Unpin> AsyncWrite for Heard<IO> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[std::io::IoSlice<'_>],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(context, parts)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }
}
