//! Which file every path names, worked out once: the canonical paths and their URL variants.

use std::num::NonZeroU64;

use hashbrown::HashTable;
use memchr::memchr_iter;
use rustc_hash::FxHashMap;
use unicode_normalization::{UnicodeNormalization, is_nfc};

use super::FileList;
use crate::address::{decode, encode, has_pair, is_path_byte, path_hash};
use crate::program::{Pages, Site};

/// Every address below the base path that names a file.
#[derive(Debug, Clone)]
pub(crate) struct UrlVariants {
    pages: Pages,
    entries: Entries,
    /// For `ignore case`: the first of the addresses, in byte order, that are this in lower case.
    folded: Option<FxHashMap<Box<str>, Entry>>,
    /// For each file, the address that `tidy` leads to.
    own: Vec<Box<str>>,
}

#[derive(Debug, Clone, Copy)]
struct Entry {
    file: u32,
    /// What a visitor who asks for it gets.
    gets: VariantResult,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum VariantResult {
    /// The file.
    File,
    /// A redirect to the file's own address.
    Redirect,
    /// Nothing: only rules may name the file so.
    Nothing,
}

/// Entries by their address, looked up by the hash that requests bring with them.
#[derive(Debug, Clone)]
struct Entries(HashTable<(Box<str>, Entry)>);

impl Entries {
    fn get(&self, path: &str, hash: Option<NonZeroU64>) -> Option<Entry> {
        let hash = hash.map_or_else(|| path_hash(path.as_bytes()), NonZeroU64::get);
        self.0.find(hash, |(address, _)| **address == *path).map(|(_, entry)| *entry)
    }
}

impl FromIterator<(Box<str>, Entry)> for Entries {
    fn from_iter<I: IntoIterator<Item = (Box<str>, Entry)>>(entries: I) -> Entries {
        let hash = |(address, _): &(Box<str>, Entry)| path_hash(address.as_bytes());
        let mut table = HashTable::new();
        for entry in entries {
            table.insert_unique(hash(&entry), entry, hash);
        }
        Entries(table)
    }
}

/// In which way an address names its file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum VariantKind {
    Name,
    Folder,
    Page,
    Other,
}

/// What an address names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum UrlVariant {
    /// This file, here.
    Serves(u32),
    /// This file, under its own address.
    Moved(u32),
}

impl UrlVariants {
    pub(crate) fn new(files: &FileList, site: &Site) -> UrlVariants {
        let names: Vec<String> =
            files.names().iter().map(|name| format!("/{}", spell(name))).collect();
        let index = spell(&site.index);
        let forms: Vec<Form<'_>> = names.iter().map(|name| Form::of(name, &index)).collect();
        let numbered = || (0_u32..).zip(names.iter().zip(&forms));
        let mut own: Vec<Box<str>> = names.iter().map(|name| name.as_str().into()).collect();
        let mut ways: FxHashMap<Box<str>, (u32, VariantKind)> = FxHashMap::default();
        // First the names of files that are no pages, since an exact file always answers; then the
        // addresses that pages are kept under; then all other spellings, each only where nothing
        // stands yet.
        for (file, (name, form)) in numbered() {
            if matches!(form, Form::Plain) {
                ways.insert(name.as_str().into(), (file, VariantKind::Name));
            }
        }
        for (file, (_, form)) in numbered() {
            let (address, way) = match form {
                Form::Folder(address) => (*address, VariantKind::Folder),
                Form::Page(address) => (*address, VariantKind::Page),
                Form::Plain => continue,
            };
            if !ways.contains_key(address) {
                if way == VariantKind::Folder || site.pages != Pages::Exact {
                    own[file as usize] = address.into();
                }
                ways.insert(address.into(), (file, way));
            }
        }
        for (file, (name, form)) in numbered() {
            ways.entry(name.as_str().into()).or_insert((file, VariantKind::Name));
            let other = match form {
                Form::Folder(address) => address.trim_end_matches('/').to_owned(),
                Form::Page(address) => format!("{address}/"),
                Form::Plain => continue,
            };
            if !other.is_empty() {
                ways.entry(other.into()).or_insert((file, VariantKind::Other));
            }
        }
        let gets = |address: &str, file: u32, way| match site.pages {
            Pages::Tidy if *own[file as usize] == *address => VariantResult::File,
            Pages::Tidy => VariantResult::Redirect,
            Pages::Loose => VariantResult::File,
            Pages::Exact if matches!(way, VariantKind::Name | VariantKind::Folder) => {
                VariantResult::File
            }
            Pages::Exact => VariantResult::Nothing,
        };
        let entry = |(address, (file, way)): (Box<str>, (u32, VariantKind))| {
            let gets = gets(&address, file, way);
            (address, Entry { file, gets })
        };
        let entries: Entries = ways.into_iter().map(entry).collect();
        let folded = site.ignore_case.then(|| fold(&entries));
        UrlVariants { pages: site.pages, entries, folded, own }
    }

    /// What an address names, as `pages` reads it.
    ///
    /// `hash` is the path's, where it is known already; `odd` says whether it could hold an escape
    /// or an empty segment.
    pub(crate) fn asked(
        &self,
        path: &str,
        hash: Option<NonZeroU64>,
        odd: bool,
    ) -> Option<UrlVariant> {
        let found = self.exact(path, hash, odd).or_else(|| {
            let entry = self.folded(path)?;
            let leads_on = self.pages == Pages::Tidy && entry.gets == VariantResult::File;
            Some(if leads_on { Entry { gets: VariantResult::Redirect, ..entry } } else { entry })
        });
        match found {
            Some(Entry { file, gets: VariantResult::File }) => Some(UrlVariant::Serves(file)),
            Some(Entry { file, gets: VariantResult::Redirect }) => Some(UrlVariant::Moved(file)),
            Some(Entry { gets: VariantResult::Nothing, .. }) => None,
            None if odd && self.pages == Pages::Tidy && has_pair(path.as_bytes(), *b"//") => {
                self.any(&without_empty_segments(path)).map(UrlVariant::Moved)
            }
            None => None,
        }
    }

    /// The file that a path of a rule names, by any URL variant.
    pub(crate) fn any(&self, path: &str) -> Option<u32> {
        self.exact(path, None, true).or_else(|| self.folded(path)).map(|entry| entry.file)
    }

    /// Names mostly come in NFC already, so the path as it stands is tried before it is composed.
    fn exact(&self, path: &str, hash: Option<NonZeroU64>, odd: bool) -> Option<Entry> {
        let found = self.entries.get(path, hash);
        if found.is_some() || !odd {
            return found;
        }
        self.entries.get(&composed(path)?, None)
    }

    /// Every address with which a rule can name a file.
    pub(crate) fn all(&self) -> impl Iterator<Item = &str> {
        self.entries.0.iter().map(|(address, _)| &**address)
    }

    /// Every address with its file, and what a visitor who asks for it gets: 0 the file, 1 a
    /// redirect to the file's own address, 2 nothing, since only rules may name the file so. In
    /// byte order.
    pub(crate) fn table(&self) -> Vec<(&str, u32, u8)> {
        let mut table: Vec<_> = self
            .entries
            .0
            .iter()
            .map(|(address, entry)| (&**address, entry.file, entry.gets as u8))
            .collect();
        table.sort_unstable();
        table
    }

    /// Every address that names a file when it is asked for.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = &str> {
        let asked = self.entries.0.iter().filter(|(_, entry)| entry.gets != VariantResult::Nothing);
        asked.map(|(address, _)| &**address)
    }

    /// The address that `tidy` leads to.
    pub(crate) fn own(&self, file: u32) -> &str {
        &self.own[file as usize]
    }

    fn folded(&self, path: &str) -> Option<Entry> {
        self.folded.as_ref()?.get(path.to_ascii_lowercase().as_str()).copied()
    }
}

/// What kind of file a name is, with the address that `tidy` would give it.
enum Form<'n> {
    /// An index file; the address is its folder's.
    Folder(&'n str),
    /// A page; the address is its name without `.html`.
    Page(&'n str),
    /// Neither.
    Plain,
}

impl<'n> Form<'n> {
    fn of(name: &'n str, index: &str) -> Form<'n> {
        if let Some(folder) = name.strip_suffix(index).filter(|folder| folder.ends_with('/')) {
            return Form::Folder(folder);
        }
        match name.strip_suffix(".html") {
            Some(page) if !page.ends_with('/') => Form::Page(page),
            _ => Form::Plain,
        }
    }
}

/// A file name as a path spells it.
fn spell(name: &str) -> String {
    let composed: String = name.nfc().collect();
    let mut out = String::with_capacity(composed.len());
    encode(composed.as_bytes(), |byte| byte == b'/' || is_path_byte(byte), &mut out);
    out
}

/// A path with its decoded text in Unicode NFC, where it is not so already.
fn composed(path: &str) -> Option<String> {
    let bytes = path.as_bytes();
    let beyond_ascii = |at: usize| matches!(bytes.get(at + 1), Some(b'8'..=b'9' | b'A'..=b'F'));
    if !memchr_iter(b'%', bytes).any(beyond_ascii) || path.contains("%2F") {
        return None;
    }
    let decoded = decode(path);
    let text = std::str::from_utf8(&decoded).ok()?;
    (!is_nfc(text)).then(|| spell(text))
}

fn fold(entries: &Entries) -> FxHashMap<Box<str>, Entry> {
    let mut sorted: Vec<&(Box<str>, Entry)> = entries.0.iter().collect();
    sorted.sort_by_key(|(address, _)| address);
    let mut folded = FxHashMap::default();
    for (address, entry) in sorted {
        folded.entry(address.to_ascii_lowercase().into_boxed_str()).or_insert(*entry);
    }
    folded
}

fn without_empty_segments(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for c in path.chars() {
        if c != '/' || !out.ends_with('/') {
            out.push(c);
        }
    }
    out
}
