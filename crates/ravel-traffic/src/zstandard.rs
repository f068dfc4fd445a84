//! Zstandard as files have it (RFC 8878): one frame or several, and frames to skip between them.

use std::io::{self, BufRead, Read};

use ruzstd::decoding::errors::{FrameDecoderError, ReadFrameHeaderError};
use ruzstd::decoding::{BlockDecodingStrategy, FrameDecoder};

/// What the highest levels of common tools look back over, in bytes.
const MAX_WINDOW_BYTES: u64 = 128 * 1024 * 1024;

/// The content of all frames, one after the other.
pub(crate) struct ZstandardReader<R> {
    source: R,
    decoder: FrameDecoder,
    in_frame: bool,
}

impl<R: BufRead> ZstandardReader<R> {
    pub(crate) fn new(source: R) -> ZstandardReader<R> {
        let mut decoder = FrameDecoder::new();
        decoder.set_max_window_size(MAX_WINDOW_BYTES);
        ZstandardReader { source, decoder, in_frame: false }
    }

    /// Begins the next frame; `false` at the end of the source.
    fn next_frame(&mut self) -> io::Result<bool> {
        loop {
            if self.source.fill_buf()?.is_empty() {
                return Ok(false);
            }
            match self.decoder.reset(&mut self.source) {
                Ok(()) => return Ok(true),
                Err(FrameDecoderError::ReadFrameHeaderError(ReadFrameHeaderError::SkipFrame {
                    length,
                    ..
                })) => {
                    let mut skipped = self.source.by_ref().take(length.into());
                    if io::copy(&mut skipped, &mut io::sink())? < u64::from(length) {
                        return Err(cut_short());
                    }
                }
                Err(error) => return Err(self.damaged(&error)),
            }
        }
    }

    /// An error of the decoder; at the end of the source it is that something is missing.
    fn damaged(&mut self, error: &FrameDecoderError) -> io::Error {
        match self.source.fill_buf() {
            Ok([]) => cut_short(),
            Ok(_) => damaged(&error.to_string()),
            Err(error) => error,
        }
    }
}

impl<R: BufRead> Read for ZstandardReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            if !self.in_frame && !self.next_frame()? {
                return Ok(0);
            }
            self.in_frame = true;
            while self.decoder.can_collect() == 0 && !self.decoder.is_finished() {
                let one = BlockDecodingStrategy::UptoBlocks(1);
                if let Err(error) = self.decoder.decode_blocks(&mut self.source, one) {
                    return Err(self.damaged(&error));
                }
            }
            let read = self.decoder.read(buffer)?;
            if read > 0 || buffer.is_empty() {
                return Ok(read);
            }
            let stated = self.decoder.get_checksum_from_data();
            if stated.is_some() && stated != self.decoder.get_calculated_checksum() {
                return Err(damaged("its checksum is another"));
            }
            self.in_frame = false;
        }
    }
}

fn damaged(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("damaged Zstandard data: {why}"))
}

fn cut_short() -> io::Error {
    io::Error::new(io::ErrorKind::UnexpectedEof, "Zstandard data without its end")
}

#[cfg(test)]
mod tests {
    use ruzstd::encoding::{CompressionLevel, compress_to_vec};

    use super::*;

    fn read(packed: &[u8]) -> Result<String, io::ErrorKind> {
        let mut text = String::new();
        let read = ZstandardReader::new(packed).read_to_string(&mut text);
        read.map(|_| text).map_err(|error| error.kind())
    }

    #[test]
    fn frames_are_read_one_after_the_other() {
        let frame = |text: &str| compress_to_vec(text.as_bytes(), CompressionLevel::Fastest);
        let long = "/a line of a log\n".repeat(20_000);
        let skipped = [&[0x50, 0x2a, 0x4d, 0x18, 3, 0, 0, 0][..], b"xyz"].concat();
        let whole = [&*frame("/a\n"), &skipped, &frame(""), &frame(&long)].concat();
        assert_eq!(read(&whole), Ok(format!("/a\n{long}")));
        for end in [whole.len() - 1, whole.len() - 30, frame("/a\n").len() + 9] {
            assert_eq!(read(&whole[..end]), Err(io::ErrorKind::UnexpectedEof), "{end}");
        }
        let mut other = whole.clone();
        *other.last_mut().unwrap() ^= 1;
        assert_eq!(read(&other), Err(io::ErrorKind::InvalidData));
        let trailed = [&*frame("/a\n"), b"no frame"].concat();
        assert_eq!(read(&trailed), Err(io::ErrorKind::InvalidData));
    }
}
