//! Short texts that stand in a template without an allocation.

use std::hash::{Hash, Hasher};
use std::ops::Deref;

use heapless::String as Inline;

/// A text that never changes, kept in place where it is short.
///
/// A look-up among very many rules waits for memory, once for every pointer that it follows; most
/// paths are short.
#[derive(Clone)]
pub(crate) enum Text<const INLINE: usize> {
    Short(Inline<INLINE, u8>),
    Long(Box<str>),
}

impl<const INLINE: usize> Deref for Text<INLINE> {
    type Target = str;

    fn deref(&self) -> &str {
        match self {
            Text::Short(text) => text,
            Text::Long(text) => text,
        }
    }
}

impl<const INLINE: usize> From<&str> for Text<INLINE> {
    fn from(text: &str) -> Text<INLINE> {
        Inline::try_from(text).map_or_else(|_| Text::Long(text.into()), Text::Short)
    }
}

impl<const INLINE: usize> PartialEq for Text<INLINE> {
    fn eq(&self, other: &Text<INLINE>) -> bool {
        **self == **other
    }
}

impl<const INLINE: usize> Eq for Text<INLINE> {}

impl<const INLINE: usize> Hash for Text<INLINE> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (**self).hash(state);
    }
}

impl<const INLINE: usize> std::fmt::Debug for Text<INLINE> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        (**self).fmt(f)
    }
}
