//! Files that results are written to, each in the form that its ending names.

use std::path::{Path, PathBuf};

use crate::Failure;
use crate::file::write_or_say;

/// The forms of reports that a command writes.
pub(crate) trait Form: Copy + 'static {
    /// All of them.
    const ALL: &'static [Self];

    /// The ending of its files, and what it is.
    fn about(self) -> (&'static str, &'static str);
}

/// The forms of a command's reports: for each its name here, the ending of its files, and what it is.
macro_rules! forms {
    ($visibility:vis $($form:ident $ending:literal $what:literal),+) => {
        /// The forms of reports that it writes.
        #[derive(Clone, Copy)]
        $visibility enum ReportForm {
            $($form),+
        }

        impl $crate::report::Form for ReportForm {
            const ALL: &'static [ReportForm] = &[$(ReportForm::$form),+];

            fn about(self) -> (&'static str, &'static str) {
                match self {
                    $(ReportForm::$form => ($ending, $what)),+
                }
            }
        }
    };
}
pub(crate) use forms;

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
    pub(crate) fn of_forms<F: Form>(&self) -> Result<Vec<(F, &Path)>, Failure> {
        let form = |file| {
            let file: &PathBuf = file;
            let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
            let is_of = |form: &&F| form.about().0.eq_ignore_ascii_case(ending);
            match F::ALL.iter().find(is_of) {
                Some(form) => Ok((*form, file.as_path())),
                None => {
                    let about = F::ALL.iter().map(|form| form.about());
                    let can: Vec<String> =
                        about.map(|(ending, what)| format!(".{ending} ({what})")).collect();
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
pub(crate) fn write_all<F: Form>(
    reports: &[(F, &Path)],
    text: impl Fn(F) -> Result<String, Failure>,
) -> Result<(), Failure> {
    for (form, path) in reports {
        write_or_say(path, text(*form)?.as_bytes())?;
    }
    Ok(())
}
