//! Places as people and programs write them: `shelf:/folder/file`.

use crate::name::{Name, NameError};

/// The deepest a path may go, in names: what keeps every walk up the tree bounded.
pub const MAX_DEPTH: usize = 256;

/// A place on a shelf: the shelf's name and the names on the way.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ShelfPath {
    /// The shelf; `home` is one's own.
    pub shelf: String,
    /// The names from the shelf's top down; none for the shelf itself.
    pub names: Vec<Name>,
}

/// Why a text is no place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// No `:` after a shelf's name.
    #[error("\"{0}\" names no shelf")]
    NoShelf(String),
    /// A name on the way cannot be.
    #[error("\"{part}\": {source}")]
    Name {
        /// The part of the path.
        part: String,
        /// What is wrong with it.
        source: NameError,
    },
    /// More than [`MAX_DEPTH`] names.
    #[error("the path has {0} names; the deepest has 256")]
    TooDeep(usize),
}

impl PathError {
    /// A stable word for programs.
    pub fn code(&self) -> &'static str {
        match self {
            PathError::NoShelf(_) => "path_without_shelf",
            PathError::Name { source, .. } => source.code(),
            PathError::TooDeep(_) => "path_too_deep",
        }
    }

    /// What to do about it.
    pub fn remedy(&self) -> String {
        match self {
            PathError::NoShelf(text) => {
                format!("Write it as shelf:/path, for example home:/{}.", text.trim_start_matches('/'))
            }
            PathError::Name { source, .. } => source.remedy(),
            PathError::TooDeep(_) => "Move the folder nearer to the top of the shelf.".into(),
        }
    }
}

impl ShelfPath {
    /// Reads `shelf:/a/b`; the slash after the colon, a last slash and doubled ones are optional.
    pub fn parse(text: &str) -> Result<ShelfPath, PathError> {
        let no_shelf = || PathError::NoShelf(text.into());
        let (shelf, rest) = text.split_once(':').ok_or_else(no_shelf)?;
        if shelf.is_empty() || shelf.contains('/') {
            return Err(no_shelf());
        }
        Ok(ShelfPath { shelf: shelf.into(), names: ShelfPath::names(rest)? })
    }

    /// Reads the names of `a/b/c`.
    pub fn names(text: &str) -> Result<Vec<Name>, PathError> {
        let names = text
            .split('/')
            .filter(|part| !part.is_empty())
            .map(|part| Name::new(part).map_err(|source| PathError::Name { part: part.into(), source }))
            .collect::<Result<Vec<_>, _>>()?;
        if names.len() > MAX_DEPTH {
            return Err(PathError::TooDeep(names.len()));
        }
        Ok(names)
    }
}

impl std::fmt::Display for ShelfPath {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:/", self.shelf)?;
        for (i, name) in self.names.iter().enumerate() {
            if i > 0 {
                f.write_str("/")?;
            }
            write!(f, "{name}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_read_and_written_alike() {
        for (text, shown) in [
            ("home:", "home:/"),
            ("home:/a//b/", "home:/a/b"),
            ("Exhibition 2027:/lens", "Exhibition 2027:/lens"),
            ("home:a:b", "home:/a:b"),
        ] {
            assert_eq!(ShelfPath::parse(text).unwrap().to_string(), shown);
        }
    }

    #[test]
    fn what_is_no_place_says_why() {
        for (text, code) in [
            ("notes.txt", "path_without_shelf"),
            (":/a", "path_without_shelf"),
            ("a/b:c", "path_without_shelf"),
            ("home:/../a", "name_dots"),
            ("home:/a\0", "name_control_character"),
        ] {
            assert_eq!(ShelfPath::parse(text).unwrap_err().code(), code, "{text:?}");
        }
        let deep = format!("home:{}", "/d".repeat(257));
        assert_eq!(ShelfPath::parse(&deep).unwrap_err().code(), "path_too_deep");
    }
}
