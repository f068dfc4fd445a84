//! What a capture's text must be, read byte by byte.

use std::borrow::Cow;

use super::symbol::{Alphabet, Symbol, meaning};
use ravel::program::{TextSet, WholeRegex};

/// A test of a capture: a `where`, or what its place in the target asks of it.
#[derive(Debug, Clone)]
pub(super) struct CaptureTest<'r> {
    kind: Kind<'r>,
    /// Whether it passes what the kind accepts, or all else.
    wanted: bool,
}

#[derive(Debug, Clone)]
enum Kind<'r> {
    Digits {
        least: u32,
        most: Option<u32>,
    },
    Listed {
        sorted: Vec<Cow<'r, [u8]>>,
        fold: bool,
    },
    Regex(&'r WholeRegex),
    /// It can be a label of a host.
    Label,
    /// It can be one segment of a path, written there from a query.
    Segment,
}

/// How far a test has come; what the numbers mean is the test's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub(super) struct Progress(u32, u32, u32);

const FAILED: Progress = Progress(u32::MAX, 0, 0);
/// Of a text that has ended, and was as wanted.
pub(super) const PASSED: Progress = Progress(u32::MAX, 1, 0);
/// No text that goes on is as wanted.
pub(super) const LOST: Progress = Progress(u32::MAX, 2, 0);
const MAX_LABEL_BYTES: u32 = 63;

impl<'r> CaptureTest<'r> {
    /// It can be a label of a host.
    pub(super) const LABEL: CaptureTest<'static> = CaptureTest { kind: Kind::Label, wanted: true };
    /// It can be one segment of a path, written there from a query.
    pub(super) const SEGMENT: CaptureTest<'static> =
        CaptureTest { kind: Kind::Segment, wanted: true };

    pub(super) fn of(set: &'r TextSet, negated: bool, fold: bool) -> CaptureTest<'r> {
        let bound = |number: usize| u32::try_from(number).unwrap_or(u32::MAX - 2);
        let kind = match set {
            TextSet::Digits { least, most } => {
                Kind::Digits { least: bound(*least), most: most.map(bound) }
            }
            TextSet::OneOf(list) => {
                let spelled = |text: &'r str| match fold {
                    true => Cow::Owned(text.to_ascii_lowercase().into_bytes()),
                    false => Cow::Borrowed(text.as_bytes()),
                };
                let mut sorted: Vec<_> = list.iter().map(|text| spelled(text)).collect();
                sorted.sort_unstable();
                sorted.dedup();
                Kind::Listed { sorted, fold }
            }
            TextSet::Matches(regex) => Kind::Regex(regex),
        };
        CaptureTest { kind, wanted: !negated }
    }

    /// Whether it lets a list of texts pass, and nothing else.
    pub(super) fn is_of_list(&self) -> bool {
        self.wanted && matches!(self.kind, Kind::Listed { .. })
    }

    pub(super) fn start(&self) -> Progress {
        match &self.kind {
            Kind::Listed { sorted, .. } => Progress(0, sorted.len() as u32, 0),
            Kind::Regex(regex) => Progress(regex.start(), 0, 0),
            _ => Progress(0, 0, 0),
        }
    }

    pub(super) fn step(&self, at: Progress, symbol: Symbol) -> Progress {
        let byte = meaning(symbol);
        if at.0 == u32::MAX {
            return at;
        }
        match &self.kind {
            Kind::Digits { least, most } => {
                let read = at.0 + 1;
                match byte.is_ascii_digit() && most.is_none_or(|most| read <= most) {
                    true => Progress(if most.is_none() { read.min(*least) } else { read }, 0, 0),
                    false => FAILED,
                }
            }
            Kind::Listed { sorted, fold, .. } => {
                let byte = if *fold { byte.to_ascii_lowercase() } else { byte };
                let Progress(low, high, depth) = at;
                let range = &sorted[low as usize..high as usize];
                let here = |text: &Cow<'_, [u8]>| text.get(depth as usize).copied();
                let from = range.partition_point(|text| here(text) < Some(byte)) as u32;
                let to = range.partition_point(|text| here(text) <= Some(byte)) as u32;
                if from == to { FAILED } else { Progress(low + from, low + to, depth + 1) }
            }
            Kind::Regex(regex) => {
                regex.next(at.0, byte).map_or(FAILED, |state| Progress(state, 0, 0))
            }
            // No `-` at an end, and not `--` in places 3 and 4.
            Kind::Label => {
                let dash = byte == b'-';
                let marked = dash && at.1 == 1 && at.0 == 3;
                let fits = (byte.is_ascii_alphanumeric() || (dash && at.0 > 0))
                    && at.0 < MAX_LABEL_BYTES
                    && !marked;
                if fits { Progress(at.0 + 1, u32::from(dash), 0) } else { FAILED }
            }
            // Up to two dots, then anything that is no control character; `0xff` stands for all
            // that is no UTF-8.
            Kind::Segment => match byte {
                0..0x20 | 0x7f | 0xff => FAILED,
                b'.' if at.0 < 3 => Progress(at.0 + 1, 0, 0),
                _ => Progress(3, 0, 0),
            },
        }
    }

    /// Whether no text that goes on from here is as wanted.
    pub(super) fn is_lost(&self, at: Progress) -> bool {
        at == LOST || (self.wanted && at == FAILED)
    }

    pub(super) fn accepts(&self, at: Progress) -> bool {
        if matches!(at, PASSED | LOST) {
            return at == PASSED;
        }
        let accepted = at != FAILED
            && match &self.kind {
                Kind::Listed { sorted, .. } => {
                    sorted.get(at.0 as usize).is_some_and(|text| text.len() == at.2 as usize)
                }
                Kind::Digits { least, .. } => at.0 >= *least,
                Kind::Regex(regex) => regex.accepts(at.0),
                Kind::Label => at.0 > 0 && at.1 == 0,
                Kind::Segment => at.0 == 0 || at.0 == 3,
            };
        accepted == self.wanted
    }

    /// Whether a whole text is as wanted.
    pub(super) fn holds(&self, text: &[u8]) -> bool {
        self.accepts(text.iter().fold(self.start(), |at, byte| self.step(at, Symbol::from(*byte))))
    }

    pub(super) fn mark(&self, alphabet: &mut Alphabet) {
        let mut mark = |byte: u8| {
            alphabet.mark(Symbol::from(byte));
            if byte == b'/' {
                alphabet.mark(super::symbol::ESCAPED_SLASH);
            }
        };
        match &self.kind {
            Kind::Digits { .. } => alphabet.mark_digits(),
            Kind::Listed { sorted, fold, .. } => {
                for &byte in sorted.iter().flat_map(|text| text.iter()) {
                    mark(byte);
                    if *fold {
                        mark(byte.to_ascii_uppercase());
                    }
                }
            }
            Kind::Regex(regex) => alphabet.mark_classes(regex.classes()),
            Kind::Label => {
                let mut classes = [0; 256];
                for byte in 0..=u8::MAX {
                    classes[usize::from(byte)] =
                        if byte == b'-' { 2 } else { u8::from(byte.is_ascii_alphanumeric()) };
                }
                alphabet.mark_classes(classes);
            }
            Kind::Segment => b".\x01\xff".iter().for_each(|byte| mark(*byte)),
        }
    }
}
