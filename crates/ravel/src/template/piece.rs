//! The parts of a template: text and expressions.

use std::fmt;
use std::ops::Range;

use super::text::Text;

/// What an expression in braces stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Expression {
    /// `{name}`: one or more characters, no `/`.
    Segment,
    /// `{+name}`: any characters, `/` too, or none.
    Any,
    /// `{/name*}`: nothing, or whole segments each with its leading `/`.
    Segments,
}

impl Expression {
    /// The expression as it is written.
    ///
    /// ```
    /// use ravel::template::Expression;
    ///
    /// assert_eq!(Expression::Segments.written("x"), "{/x*}");
    /// ```
    pub fn written(self, name: &str) -> String {
        match self {
            Expression::Segment => format!("{{{name}}}"),
            Expression::Any => format!("{{+{name}}}"),
            Expression::Segments => format!("{{/{name}*}}"),
        }
    }
}

/// A piece of a [`Template`], as a range of its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Part {
    /// Text that stands for itself.
    Text {
        /// First byte.
        start: u32,
        /// One past the last byte.
        end: u32,
    },
    /// An expression; the range is its name's.
    Expression {
        /// Which form.
        form: Expression,
        /// First byte of the name.
        start: u32,
        /// One past the last byte of the name.
        end: u32,
    },
}

/// A piece of a [`Template`] with its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'t> {
    /// Text that stands for itself.
    Text(&'t str),
    /// An expression, by its name.
    Expression(Expression, &'t str),
}

/// Text with expressions in it, in the form in which it is printed.
///
/// Most rules of a large site are literal, so a template without expressions keeps nothing but its
/// text, and that, up to `INLINE` bytes, without a pointer.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Template<const INLINE: usize = 62>(Form<INLINE>);

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Form<const INLINE: usize> {
    Literal(Text<INLINE>),
    Parted(Box<PartBuffer>),
}

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct PartBuffer {
    text: Box<str>,
    parts: Box<[Part]>,
}

impl<const INLINE: usize> Template<INLINE> {
    /// Whether there is no expression in it.
    pub fn is_literal(&self) -> bool {
        matches!(self.0, Form::Literal(_))
    }

    /// The text as it is printed; for a literal, the text it matches.
    pub fn as_str(&self) -> &str {
        match &self.0 {
            Form::Literal(text) => text,
            Form::Parted(parted) => &parted.text,
        }
    }

    /// Its pieces; none for a literal, whose only piece is its text.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/a/{x}")?.path().parts().len(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn parts(&self) -> &[Part] {
        match &self.0 {
            Form::Literal(_) => &[],
            Form::Parted(parted) => &parted.parts,
        }
    }

    /// Its pieces with their texts; of a literal its text.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/a/{x}/b")?.path().pieces().count(), 3);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn pieces(&self) -> impl Iterator<Item = Piece<'_>> {
        let whole = self.is_literal().then(|| Piece::Text(self.as_str()));
        let parts = self.parts().iter().map(|part| match *part {
            Part::Text { start, end } => Piece::Text(self.slice(start, end)),
            Part::Expression { form, start, end } => {
                Piece::Expression(form, self.slice(start, end))
            }
        });
        whole.into_iter().chain(parts)
    }

    /// Its expressions, in order, with their names.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/{a}/{b}")?.path().expressions().count(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn expressions(&self) -> impl Iterator<Item = (Expression, &str)> {
        self.parts().iter().filter_map(|part| match *part {
            Part::Expression { form, start, end } => Some((form, self.slice(start, end))),
            Part::Text { .. } => None,
        })
    }

    /// The text before its first expression.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/a/{x}")?.path().literal_prefix(), "/a/");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn literal_prefix(&self) -> &str {
        match self.parts().first() {
            None => self.as_str(),
            Some(&Part::Text { start, end }) => self.slice(start, end),
            Some(Part::Expression { .. }) => "",
        }
    }

    pub(super) fn slice(&self, start: u32, end: u32) -> &str {
        &self.as_str()[start as usize..end as usize]
    }
}

impl<const INLINE: usize> fmt::Display for Template<INLINE> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// Puts a template together from its pieces.
#[derive(Default)]
pub(super) struct TemplateBuilder {
    text: String,
    parts: Vec<Part>,
    expressions: bool,
}

impl TemplateBuilder {
    pub(super) fn literal<const INLINE: usize>(text: &str) -> Template<INLINE> {
        Template(Form::Literal(text.into()))
    }

    pub(super) fn push_text(&mut self, text: &str) {
        if text.is_empty() {
            return;
        }
        let start = self.text.len() as u32;
        self.text.push_str(text);
        let end = self.text.len() as u32;
        match self.parts.last_mut() {
            Some(Part::Text { end: last, .. }) => *last = end,
            _ => self.parts.push(Part::Text { start, end }),
        }
    }

    pub(super) fn push_expression(&mut self, form: Expression, name: &str) {
        self.expressions = true;
        self.text.push_str(match form {
            Expression::Segment => "{",
            Expression::Any => "{+",
            Expression::Segments => "{/",
        });
        let start = self.text.len() as u32;
        self.text.push_str(name);
        let end = self.text.len() as u32;
        self.text.push_str(if form == Expression::Segments { "*}" } else { "}" });
        self.parts.push(Part::Expression { form, start, end });
    }

    pub(super) fn finish<const INLINE: usize>(self) -> Template<INLINE> {
        Template(match self.expressions {
            false => Form::Literal(self.text.as_str().into()),
            true => Form::Parted(Box::new(PartBuffer {
                text: self.text.into(),
                parts: self.parts.into(),
            })),
        })
    }
}

/// A range of a text as a slice of it.
pub(super) fn span(text: &str, (start, end): (u32, u32)) -> &str {
    &text[Range { start: start as usize, end: end as usize }]
}
