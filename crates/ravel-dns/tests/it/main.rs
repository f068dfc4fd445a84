//! Zones, records, certificates and timelines, by the public face of the library.

mod another_reader;
mod caa;
mod certificates;
mod common;
mod domain;
mod entries;
mod hostile;
mod judgement;
mod notations;
mod servers;
mod steps;
mod timeline;
mod values;
mod zone;
