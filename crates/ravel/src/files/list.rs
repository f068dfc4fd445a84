//! The list of built files.

/// The built files of a site, by their names from the root of the folder, with `/` between folders.
///
/// Files with a name or a folder that begins with a dot are left out; `.well-known` is not (RFC
/// 8615).
#[derive(Debug, Clone, Default)]
pub struct FileList {
    names: Vec<Box<str>>,
    left_out: Vec<(Box<str>, Omission)>,
}

/// Why a file is not in the list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Omission {
    /// It has a name, or is in a folder with a name, that begins with a dot.
    Hidden,
    /// It is one of the rules' own files.
    Rules,
    /// It is a link that leads out of the folder.
    Link,
    /// Its name is not UTF-8.
    NotUtf8,
    /// It cannot be read; or it is a folder that cannot.
    Unreadable,
}

impl FileList {
    /// The names, in byte order.
    ///
    /// ```
    /// let files = ravel::FileList::from_iter(["index.html", "a/b.css", ".git/config"]);
    /// assert_eq!(files.names(), [Box::from("a/b.css"), Box::from("index.html")]);
    /// assert_eq!(files.left_out().len(), 1);
    /// ```
    pub fn names(&self) -> &[Box<str>] {
        &self.names
    }

    /// The names that were left out, in byte order, and why.
    pub fn left_out(&self) -> &[(Box<str>, Omission)] {
        &self.left_out
    }

    /// Whether a file of this name is there.
    ///
    /// ```
    /// let files = ravel::FileList::from_iter(["index.html"]);
    /// assert!(files.contains("index.html") && !files.contains("/index.html"));
    /// ```
    pub fn contains(&self, name: &str) -> bool {
        self.names.binary_search_by(|known| (**known).cmp(name)).is_ok()
    }

    /// Leaves out more names.
    ///
    /// ```
    /// use ravel::files::Omission;
    ///
    /// let files = ravel::FileList::from_iter(["index.html", "edge.ravel"]);
    /// let files = files.without(["edge.ravel"], Omission::Rules);
    /// assert!(!files.contains("edge.ravel"));
    /// ```
    #[must_use]
    pub fn without<'n>(
        mut self,
        names: impl IntoIterator<Item = &'n str>,
        why: Omission,
    ) -> FileList {
        for name in names {
            let known = self.names.binary_search_by(|known| (**known).cmp(name));
            let name = known.map_or_else(|_| name.into(), |at| self.names.remove(at));
            self.left_out.push((name, why));
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
            match hidden {
                true => list.left_out.push((name.into(), Omission::Hidden)),
                false => list.names.push(name.into()),
            }
        }
        list.names.sort();
        list.names.dedup();
        list.left_out.sort();
        list
    }
}
