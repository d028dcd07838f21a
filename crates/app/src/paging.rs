//! Pages of lists, and values with the revision that a change of them is based on.

/// The longest page.
pub const MOST_ITEMS: i64 = 500;

/// Where a page begins, and how long it is.
#[derive(Clone, Debug)]
pub struct Paging<K> {
    /// The key after which it begins.
    pub after: Option<K>,
    /// At most so many items.
    pub limit: i64,
}

/// A page of a list.
#[derive(Clone, Debug)]
pub struct Paged<T, K> {
    /// The items.
    pub items: Vec<T>,
    /// The key after which the next page begins; nothing on the last page.
    pub next: Option<K>,
}

impl<T, K> Paged<T, K> {
    /// Makes a page of rows, of which one more than `most` was asked for.
    pub fn of<R>(
        mut rows: Vec<R>,
        limit: i64,
        key: impl Fn(&R) -> K,
        show: impl Fn(R) -> T,
    ) -> Self {
        let limit = usize::try_from(limit).unwrap_or(1);
        let more = rows.len() > limit;
        rows.truncate(limit);
        let next = rows.last().filter(|_| more).map(key);
        Self {
            items: rows.into_iter().map(show).collect(),
            next,
        }
    }
}

/// A value with the revision that a change of it is based on.
#[derive(Clone, Debug)]
pub struct Versioned<T>(pub i32, pub T);
