//! Files that results are written to, each in the form that its ending names.

use std::path::{Path, PathBuf};

use crate::Failure;
use crate::file::write_or_say;

/// A form of a report: the ending of its files, and what it is.
pub(crate) type Form = (&'static str, &'static str);

/// `--report`, as often as wanted.
#[derive(Clone, clap::Args)]
pub(crate) struct Reports {
    /// Write a report, too; the ending of the file says in which form
    #[arg(long = "report", value_name = "FILE")]
    files: Vec<PathBuf>,
}

impl Reports {
    pub(crate) fn are_wanted(&self) -> bool {
        !self.files.is_empty()
    }

    /// Each file with its form.
    ///
    /// # Errors
    /// A form that the command cannot write, with those that it can.
    pub(crate) fn of_forms<'r>(
        &'r self,
        forms: &'static [Form],
    ) -> Result<Vec<(&'static str, &'r Path)>, Failure> {
        let form = |file: &'r PathBuf| {
            let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
            match forms.iter().find(|(known, _)| known.eq_ignore_ascii_case(ending)) {
                Some((known, _)) => Ok((*known, file.as_path())),
                None => {
                    let can: Vec<String> =
                        forms.iter().map(|(ending, what)| format!(".{ending} ({what})")).collect();
                    Err(Failure::Message(format!(
                        "cannot write `{}`: this command writes reports as {}",
                        file.display(),
                        can.join(", ")
                    )))
                }
            }
        };
        self.files.iter().map(form).collect()
    }
}

/// Writes each report as `text` words its form.
pub(crate) fn write_all(
    reports: &[(&'static str, &Path)],
    text: impl Fn(&'static str) -> Result<String, Failure>,
) -> Result<(), Failure> {
    for (form, path) in reports {
        write_or_say(path, text(form)?.as_bytes())?;
    }
    Ok(())
}
