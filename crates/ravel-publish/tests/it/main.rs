//! What is published, by the public face of the library.

mod decided;
mod files;
mod list;
mod pages;
mod publish;
mod sites;
