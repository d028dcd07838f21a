//! The Merkle tree of RFC 9162, section 2.1.

use sha2::{Digest, Sha256};

/// A SHA-256 hash.
pub type Hash = [u8; 32];

/// The hash of a leaf: SHA-256(0x00 ‖ entry).
#[must_use]
pub fn leaf_hash(entry: &[u8]) -> Hash {
    Sha256::new()
        .chain_update([0])
        .chain_update(entry)
        .finalize()
        .into()
}

/// The hash of an inner node: SHA-256(0x01 ‖ left ‖ right).
#[must_use]
pub fn node_hash(left: &Hash, right: &Hash) -> Hash {
    Sha256::new()
        .chain_update([1])
        .chain_update(left)
        .chain_update(right)
        .finalize()
        .into()
}

/// The largest power of two smaller than `n`, for `n` above 1.
const fn split(n: usize) -> usize {
    1 << (usize::BITS - 1 - (n - 1).leading_zeros())
}

/// The root of a list of leaf hashes.
#[must_use]
pub fn root_of(leaves: &[Hash]) -> Hash {
    match leaves {
        [] => Sha256::digest([]).into(),
        [one] => *one,
        more => {
            let (left, right) = more.split_at(split(more.len()));
            node_hash(&root_of(left), &root_of(right))
        }
    }
}

/// The right edge of a growing tree: the roots of its full subtrees, largest first. It holds all
/// that appending needs, at most one hash per bit of the size.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Frontier {
    size: u64,
    roots: Vec<Hash>,
}

impl Frontier {
    /// A frontier as it was stored.
    ///
    /// # Errors
    /// Nothing is returned when the number of hashes does not fit the size.
    #[must_use]
    pub fn restore(size: u64, roots: Vec<Hash>) -> Option<Self> {
        (size.count_ones() as usize == roots.len()).then_some(Self { size, roots })
    }

    /// How many leaves the tree has.
    #[must_use]
    pub const fn size(&self) -> u64 {
        self.size
    }

    /// The roots of the full subtrees, to store.
    #[must_use]
    pub fn roots(&self) -> &[Hash] {
        &self.roots
    }

    /// Adds one leaf.
    pub fn append(&mut self, leaf: Hash) {
        let mut node = leaf;
        let mut size = self.size;
        while size & 1 == 1 {
            if let Some(left) = self.roots.pop() {
                node = node_hash(&left, &node);
            }
            size >>= 1;
        }
        self.roots.push(node);
        self.size += 1;
    }

    /// The root of the tree.
    #[must_use]
    pub fn root(&self) -> Hash {
        let mut roots = self.roots.iter().rev();
        let Some(mut root) = roots.next().copied() else {
            return root_of(&[]);
        };
        for left in roots {
            root = node_hash(left, &root);
        }
        root
    }
}

/// The path that proves that the leaf at `index` is in the tree of these leaves (section 2.1.3.1).
/// Nothing when there is no such leaf.
#[must_use]
pub fn inclusion_proof(leaves: &[Hash], index: usize) -> Option<Vec<Hash>> {
    if index >= leaves.len() {
        return None;
    }
    if leaves.len() == 1 {
        return Some(vec![]);
    }
    let (left, right) = leaves.split_at(split(leaves.len()));
    let mut path;
    if index < left.len() {
        path = inclusion_proof(left, index)?;
        path.push(root_of(right));
    } else {
        path = inclusion_proof(right, index - left.len())?;
        path.push(root_of(left));
    }
    Some(path)
}

/// Checks an inclusion proof (section 2.1.3.2).
#[must_use]
pub fn verify_inclusion(leaf: &Hash, index: u64, size: u64, path: &[Hash], root: &Hash) -> bool {
    if index >= size {
        return false;
    }
    let (mut at, mut last, mut hash) = (index, size - 1, *leaf);
    for step in path {
        if last == 0 {
            return false;
        }
        if at & 1 == 1 || at == last {
            hash = node_hash(step, &hash);
            while at & 1 == 0 && at != 0 {
                at >>= 1;
                last >>= 1;
            }
        } else {
            hash = node_hash(&hash, step);
        }
        at >>= 1;
        last >>= 1;
    }
    last == 0 && hash == *root
}

/// The path that proves that the first `old` leaves were the whole tree once (section 2.1.4.1).
/// Nothing when `old` is 0 or more than there are.
#[must_use]
pub fn consistency_proof(leaves: &[Hash], old: usize) -> Option<Vec<Hash>> {
    fn inner(leaves: &[Hash], old: usize, whole: bool) -> Vec<Hash> {
        if old == leaves.len() {
            return if whole { vec![] } else { vec![root_of(leaves)] };
        }
        let (left, right) = leaves.split_at(split(leaves.len()));
        let mut path;
        if old <= left.len() {
            path = inner(left, old, whole);
            path.push(root_of(right));
        } else {
            path = inner(right, old - left.len(), false);
            path.push(root_of(left));
        }
        path
    }
    (1..=leaves.len())
        .contains(&old)
        .then(|| inner(leaves, old, true))
}

/// Checks a consistency proof (section 2.1.4.2).
#[must_use]
pub fn verify_consistency(
    old_size: u64,
    new_size: u64,
    old_root: &Hash,
    new_root: &Hash,
    path: &[Hash],
) -> bool {
    if old_size == 0 || old_size > new_size {
        return false;
    }
    if old_size == new_size {
        return path.is_empty() && old_root == new_root;
    }
    let mut steps = path.iter();
    let first = if old_size.is_power_of_two() {
        Some(old_root)
    } else {
        steps.next()
    };
    let Some(first) = first else { return false };
    let (mut at, mut last) = (old_size - 1, new_size - 1);
    while at & 1 == 1 {
        at >>= 1;
        last >>= 1;
    }
    let (mut old_hash, mut new_hash) = (*first, *first);
    for step in steps {
        if last == 0 {
            return false;
        }
        if at & 1 == 1 || at == last {
            old_hash = node_hash(step, &old_hash);
            new_hash = node_hash(step, &new_hash);
            while at & 1 == 0 && at != 0 {
                at >>= 1;
                last >>= 1;
            }
        } else {
            new_hash = node_hash(&new_hash, step);
        }
        at >>= 1;
        last >>= 1;
    }
    last == 0 && old_hash == *old_root && new_hash == *new_root
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn leaves(n: usize) -> Vec<Hash> {
        (0..n).map(|n| leaf_hash(&n.to_be_bytes())).collect()
    }

    #[test]
    fn known_roots() {
        // The empty tree of RFC 9162 is SHA-256 of nothing; one leaf is the leaf hash.
        assert_eq!(root_of(&[])[..4], [0xe3, 0xb0, 0xc4, 0x42]);
        assert_eq!(leaf_hash(b"")[..4], [0x6e, 0x34, 0x0b, 0x9c]);
    }

    proptest! {
        #[test]
        fn a_frontier_grows_to_the_root_of_all_leaves(n in 0usize..200) {
            let mut frontier = Frontier::default();
            for leaf in leaves(n) {
                frontier.append(leaf);
                let again = Frontier::restore(frontier.size(), frontier.roots().to_vec());
                prop_assert_eq!(again.as_ref(), Some(&frontier));
            }
            prop_assert_eq!(frontier.root(), root_of(&leaves(n)));
        }

        #[test]
        fn inclusion_is_proved_for_the_leaf_and_for_no_other(n in 1usize..100, index in any::<prop::sample::Index>(), other in any::<prop::sample::Index>()) {
            let all = leaves(n);
            let (index, other) = (index.index(n), other.index(n));
            let path = inclusion_proof(&all, index).unwrap();
            let root = root_of(&all);
            prop_assert!(verify_inclusion(&all[index], index as u64, n as u64, &path, &root));
            if other != index {
                prop_assert!(!verify_inclusion(&all[other], index as u64, n as u64, &path, &root));
                prop_assert!(!verify_inclusion(&all[index], other as u64, n as u64, &path, &root));
            }
            prop_assert_eq!(inclusion_proof(&all, n), None);
        }

        #[test]
        fn consistency_is_proved_and_a_rewritten_past_is_not(n in 1usize..100, old in any::<prop::sample::Index>(), changed in any::<prop::sample::Index>()) {
            let all = leaves(n);
            let old = old.index(n) + 1;
            let path = consistency_proof(&all, old).unwrap();
            let (old_root, new_root) = (root_of(&all[..old]), root_of(&all));
            prop_assert!(verify_consistency(old as u64, n as u64, &old_root, &new_root, &path));
            let mut forged = all;
            forged[changed.index(old)] = leaf_hash(b"forged");
            let path = consistency_proof(&forged, old).unwrap();
            prop_assert!(!verify_consistency(old as u64, n as u64, &old_root, &root_of(&forged), &path));
        }
    }
}
