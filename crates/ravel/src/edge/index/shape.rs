//! Patterns seen as segments, for the indexes of the library and of the module.

use crate::template::{Expression, Part, Template};

/// A template as the walk over a path meets it: whole segments, then, where it has a wide
/// expression, a tail.
#[derive(Debug, PartialEq, Eq)]
pub struct Shape<'t> {
    pub(crate) segments: Vec<Segment<'t>>,
    pub(crate) tail: Option<Tail<'t>>,
}

/// One segment of a template, without its `/`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Segment<'t> {
    /// Text alone.
    Text(&'t str),
    /// Text before its first expression and after its last.
    Around(&'t str, &'t str),
}

/// The first wide expression of a template, seen from the end of the last whole segment before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tail<'t> {
    pub(crate) slash: bool,
    pub(crate) lead: &'t str,
    pub(crate) end: &'t str,
}

impl<'t> Tail<'t> {
    /// Whether a `/` stands before it.
    pub fn slash(&self) -> bool {
        self.slash
    }

    /// The text behind that `/`, up to the first expression.
    pub fn lead(&self) -> &'t str {
        self.lead
    }

    /// The text at the template's end, behind its last expression.
    pub fn end(&self) -> &'t str {
        self.end
    }
}

impl<'t> Shape<'t> {
    /// The shape of a template.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let pattern = Pattern::parse("/a/{x}/b")?;
    /// assert_eq!(ravel::edge::Shape::of(pattern.path()).segments().len(), 3);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(template: &'t Template) -> Shape<'t> {
        let parts = template.parts();
        let text = |part: &Part| match *part {
            Part::Text { start, end } => Some(&template.as_str()[start as usize..end as usize]),
            Part::Expression { .. } => None,
        };
        let wide = parts.iter().position(|part| match part {
            Part::Expression { form, .. } => *form != Expression::Segment,
            Part::Text { .. } => false,
        });
        // Segments as rows of texts and expressions (`None`); nothing stands before the first `/`.
        let mut rows: Vec<Vec<Option<&str>>> = Vec::new();
        for part in &parts[..wide.unwrap_or(parts.len())] {
            let Some(text) = text(part) else {
                rows.iter_mut().last().into_iter().for_each(|row| row.push(None));
                continue;
            };
            let (head, after) =
                text.split_once('/').map_or((text, None), |(head, after)| (head, Some(after)));
            if let Some(row) = rows.last_mut().filter(|_| !head.is_empty()) {
                row.push(Some(head));
            }
            rows.extend(
                after.into_iter().flat_map(|after| after.split('/')).map(|piece| vec![Some(piece)]),
            );
        }
        let tail = wide.map(|wide| {
            // `{/x*}` begins behind a whole segment; `{+x}` goes on with the segment it stands in.
            let inside = matches!(parts[wide], Part::Expression { form: Expression::Any, .. });
            let row = if inside { rows.pop() } else { None };
            let end = parts[wide..].last().and_then(text).unwrap_or_default();
            Tail { slash: row.is_some(), lead: row.and_then(|row| row[0]).unwrap_or_default(), end }
        });
        Shape { segments: rows.iter().map(|row| segment(row)).collect(), tail }
    }

    /// The segments before the first wide expression.
    pub fn segments(&self) -> &[Segment<'t>] {
        &self.segments
    }

    /// The rest, where it has a wide expression.
    pub fn tail(&self) -> Option<&Tail<'t>> {
        self.tail.as_ref()
    }
}

fn segment<'t>(row: &[Option<&'t str>]) -> Segment<'t> {
    match *row {
        [Some(text)] => Segment::Text(text),
        [first, .., last] => Segment::Around(first.unwrap_or_default(), last.unwrap_or_default()),
        _ => Segment::Around("", ""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::template::Pattern;

    #[test]
    fn shapes_of_templates() {
        use Segment::{Around, Text};
        type Case<'t> = (&'t str, &'t [Segment<'t>], Option<(bool, &'t str, &'t str)>);
        let cases: &[Case<'_>] = &[
            ("/a/{x}", &[Text("a"), Around("", "")], None),
            ("/a/{x}/", &[Text("a"), Around("", ""), Text("")], None),
            ("/a-{x}.html", &[Around("a-", ".html")], None),
            ("/{x}-{y}/b", &[Around("", ""), Text("b")], None),
            ("/a{x}b{y}c", &[Around("a", "c")], None),
            ("{/x*}", &[], Some((false, "", ""))),
            ("{+x}.html", &[], Some((false, "", ".html"))),
            ("/news{/x*}", &[Text("news")], Some((false, "", ""))),
            ("/news{/x*}/print", &[Text("news")], Some((false, "", "/print"))),
            ("/assets/{+x}", &[Text("assets")], Some((true, "", ""))),
            ("/pre{+x}", &[], Some((true, "pre", ""))),
            ("/a/p{y}q{+x}z", &[Text("a")], Some((true, "p", "z"))),
            ("/{a}{/b*}/c{+d}", &[Around("", "")], Some((false, "", ""))),
        ];
        for (text, segments, tail) in cases {
            let pattern = Pattern::parse(text).unwrap();
            let shape = Shape::of(&pattern.path);
            assert_eq!(shape.segments, *segments, "{text}");
            assert_eq!(shape.tail.map(|tail| (tail.slash, tail.lead, tail.end)), *tail, "{text}");
        }
    }
}
