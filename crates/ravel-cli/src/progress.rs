//! How far long work is.

use std::io::{self, IsTerminal};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Shorter work is done before anybody asks.
const LONG_WORK: Duration = Duration::from_secs(1);

/// Work of so many steps; what takes long shows on a terminal how far it is.
pub(crate) struct Progress {
    bar: ProgressBar,
    start: Instant,
}

impl Progress {
    pub(crate) fn new(steps: usize, what: &'static str) -> Progress {
        let bar = ProgressBar::with_draw_target(Some(steps as u64), ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("{wide_bar} {pos} of {len} {msg}");
        let bar = match style {
            Ok(style) => bar.with_style(style).with_message(what),
            Err(_) => bar,
        };
        Progress { bar, start: Instant::now() }
    }

    /// One step is done.
    pub(crate) fn step(&self) {
        let is_long = self.start.elapsed() > LONG_WORK;
        if self.bar.is_hidden() && is_long && io::stderr().is_terminal() {
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        self.bar.inc(1);
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
