//! Drafts of builds, by the public face of the library.

mod drafts;
mod moves;
