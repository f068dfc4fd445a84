//! Sources of URLs and tallies, by the public face of the library.

mod sources;
mod tally;
