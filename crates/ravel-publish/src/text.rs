//! Texts as the module has them.

/// The bytes of a text in UTF-8, a character each, as the module has all that it compares.
pub(crate) fn bytes(text: &str) -> String {
    text.bytes().map(char::from).collect()
}

/// A text as it is compared: in lower case where case is ignored.
pub(crate) fn low(text: &str, fold: bool) -> String {
    if fold { text.to_ascii_lowercase() } else { text.to_owned() }
}

/// A text as a string literal that is safe in a script, and in a page with a script in it. Quotes
/// are single, since a table is full of double ones.
pub(crate) fn script_text(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push('\'');
    for c in text.chars() {
        match c {
            '\\' | '\'' => out.extend(['\\', c]),
            '\0'..='\u{1f}' | '<' | '>' | '&' | '\u{2028}' | '\u{2029}' => {
                out.push_str(&format!("\\u{:04x}", c as u32))
            }
            c => out.push(c),
        }
    }
    out.push('\'');
    out
}
