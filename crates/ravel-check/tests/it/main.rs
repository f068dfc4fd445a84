//! Sets, findings, proofs and differences, by the public face of the library.

mod accepts;
mod answers;
mod audit;
mod changes;
mod coverage;
mod differences;
mod every;
mod fingerprints;
mod given;
mod ordinary;
mod proofs;
mod queries;
mod references;
mod rows;
mod sets;
mod settings;
mod styles;
mod suffixes;
mod universe;
mod worlds;
