//! Statements of a draft, each with its evidence, and the text that they make.

/// A statement with what it rests on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Statement {
    /// Sentences; each becomes a comment.
    pub(crate) evidence: Vec<String>,
    /// Its lines, each with its end.
    pub(crate) text: String,
}

/// Longer comments go on in another line, in characters.
const MAX_COMMENT: usize = 96;

impl Statement {
    pub(crate) fn new(evidence: impl Into<String>, text: impl Into<String>) -> Statement {
        Statement { evidence: vec![evidence.into()], text: text.into() }
    }
}

/// The text of statements, blank lines between them.
pub(crate) fn text_of(statements: &[Statement]) -> String {
    let texts = statements.iter().map(|statement| {
        let comments: String = statement.evidence.iter().map(|one| comment(one, "")).collect();
        format!("{comments}{}", statement.text)
    });
    texts.collect::<Vec<_>>().join("\n")
}

/// A sentence as a comment, behind some spaces.
pub(crate) fn comment(sentence: &str, indent: &str) -> String {
    let mut lines = vec![String::new()];
    for word in sentence.split_whitespace() {
        let last = lines.last_mut().expect("there is a line");
        if !last.is_empty() && last.chars().count() + 1 + word.chars().count() > MAX_COMMENT {
            lines.push(word.to_owned());
            continue;
        }
        if !last.is_empty() {
            last.push(' ');
        }
        last.push_str(word);
    }
    lines.iter().map(|line| format!("{indent}# {line}\n")).collect()
}

/// A text as a sentence.
pub(crate) fn sentence(mut text: String) -> String {
    if let Some(first) = text.get(..1).map(str::to_ascii_uppercase) {
        text.replace_range(..1, &first);
    }
    if !text.ends_with(['.', '?']) {
        text.push('.');
    }
    text
}
