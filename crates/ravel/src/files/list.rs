/// The built files of a site, by their names from the root of the folder, with `/` between folders.
///
/// Files with a name or a folder that begins with a dot are left out; `.well-known` is not (RFC 8615).
#[derive(Debug, Clone, Default)]
pub struct FileList {
    names: Vec<Box<str>>,
    left_out: Vec<Box<str>>,
}

impl FileList {
    /// The names, in byte order.
    pub fn names(&self) -> &[Box<str>] {
        &self.names
    }

    /// The names that were given and left out, in byte order.
    pub fn left_out(&self) -> &[Box<str>] {
        &self.left_out
    }

    /// Whether a file of this name is there.
    pub fn contains(&self, name: &str) -> bool {
        self.names.binary_search_by(|known| (**known).cmp(name)).is_ok()
    }

    /// Leaves out more names, such as the rules themselves.
    #[must_use]
    pub fn without<'n>(mut self, names: impl IntoIterator<Item = &'n str>) -> FileList {
        for name in names {
            if let Ok(at) = self.names.binary_search_by(|known| (**known).cmp(name)) {
                self.left_out.push(self.names.remove(at));
            }
        }
        self.left_out.sort();
        self
    }
}

impl<N: AsRef<str>> FromIterator<N> for FileList {
    fn from_iter<I: IntoIterator<Item = N>>(names: I) -> FileList {
        let mut list = FileList::default();
        for name in names {
            let name = name.as_ref();
            let hidden = name.split('/').any(|part| part.starts_with('.') && part != ".well-known");
            let into = if hidden { &mut list.left_out } else { &mut list.names };
            into.push(name.into());
        }
        list.names.sort();
        list.names.dedup();
        list.left_out.sort();
        list
    }
}
