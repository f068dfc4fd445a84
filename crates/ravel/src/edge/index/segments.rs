//! Patterns with expressions, as a tree of segments.

use hashbrown::HashTable;
use memchr::memchr;
use smallvec::SmallVec;

use super::Candidates;
use super::buckets::{hash_pair, same};
use super::shape::{Segment, Shape, Tail};
use crate::program::Rule;
use crate::template::Text;

/// Rules with expressions in their path, as a tree of segments that a path is walked along.
///
/// A segment with expressions is found by the text around them: one look-up for each pair of
/// lengths that such texts have at a node. A rule ends at a node, or has a tail there, which is
/// found in the same way over all the rest of the path.
#[derive(Debug)]
pub(super) struct Segments {
    nodes: Vec<Node>,
    edges: HashTable<Branch>,
    tails: HashTable<TailRules>,
}

type Numbers = SmallVec<[u32; 2]>;

#[derive(Debug, Default)]
struct Node {
    ends: Numbers,
    /// Which texts could follow as a whole segment: a bit for each of their first bytes, folded to
    /// 64.
    texts: u64,
    /// The lengths of texts around expressions in the next segment.
    around: SmallVec<[(u32, u32); 1]>,
    tails: SmallVec<[TailShape; 1]>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct TailShape {
    slash: bool,
    lead: u32,
    end: u32,
}

/// The way from one node to another: by a segment's text, or by the text around its expressions.
#[derive(Debug)]
struct Branch {
    from: u32,
    to: u32,
    text: Text<22>,
    /// Where the expressions stand in the text, if there are any.
    gap: Option<u32>,
}

#[derive(Debug)]
struct TailRules {
    node: u32,
    shape: TailShape,
    text: Box<str>,
    rules: Numbers,
}

impl Default for Segments {
    fn default() -> Segments {
        Segments { nodes: vec![Node::default()], edges: HashTable::new(), tails: HashTable::new() }
    }
}

impl Segments {
    pub(super) fn insert(&mut self, rules: &[Rule], number: u32, fold: bool) {
        let shape = Shape::of(&rules[number as usize].pattern.path);
        let mut node = 0;
        for segment in &shape.segments {
            node = self.child(node, *segment, fold);
        }
        match shape.tail {
            None => self.nodes[node as usize].ends.push(number),
            Some(tail) => self.insert_tail(node, tail, number, fold),
        }
    }

    /// Whether any rule could match a path, from a look at its start.
    #[inline]
    pub(super) fn could_lead(&self, path: &str) -> bool {
        self.nodes[0].could_lead(path.as_bytes())
    }

    pub(super) fn find(&self, path: &str, fold: bool, found: &mut Candidates) {
        if !self.could_lead(path) {
            return;
        }
        let path = path.as_bytes();
        let mut open: SmallVec<[(u32, usize); 8]> = SmallVec::new();
        open.push((0, 0));
        while let Some((number, at)) = open.pop() {
            let node = &self.nodes[number as usize];
            if at == path.len() {
                found.extend_from_slice(&node.ends);
            }
            for shape in &node.tails {
                found.extend_from_slice(self.tail(number, *shape, &path[at..], fold));
            }
            if at == path.len() {
                continue;
            }
            let rest = &path[at + 1..];
            let by_text = node.texts & text_bit(rest) != 0;
            if !by_text && node.around.is_empty() {
                continue;
            }
            let segment = &rest[..memchr(b'/', rest).unwrap_or(rest.len())];
            let next = at + 1 + segment.len();
            if by_text && let Some(child) = self.edge(number, segment, b"", None, fold) {
                open.push((child, next));
            }
            for &(before, after) in &node.around {
                let (before, after) = (before as usize, after as usize);
                if segment.len() > before + after {
                    let (head, tail) = (&segment[..before], &segment[segment.len() - after..]);
                    if let Some(child) = self.edge(number, head, tail, Some(before as u32), fold) {
                        open.push((child, next));
                    }
                }
            }
        }
    }

    pub(super) fn finish(&mut self, fold: bool) {
        self.nodes.shrink_to_fit();
        self.edges.shrink_to_fit(|edge| edge.hash(fold));
        self.tails.shrink_to_fit(|tail| tail.hash(fold));
    }

    fn child(&mut self, from: u32, segment: Segment<'_>, fold: bool) -> u32 {
        let (before, after, gap) = match segment {
            Segment::Text(text) => (text, "", None),
            Segment::Around(before, after) => (before, after, Some(before.len() as u32)),
        };
        if let Some(child) = self.edge(from, before.as_bytes(), after.as_bytes(), gap, fold) {
            return child;
        }
        let to = self.nodes.len() as u32;
        self.nodes.push(Node::default());
        let node = &mut self.nodes[from as usize];
        match segment {
            Segment::Text(text) => node.texts |= text_bit(text.as_bytes()),
            Segment::Around(..) => {
                let lengths = (before.len() as u32, after.len() as u32);
                if !node.around.contains(&lengths) {
                    node.around.push(lengths);
                }
            }
        }
        let edge = Branch { from, to, text: [before, after].concat().as_str().into(), gap };
        self.edges.insert_unique(edge.hash(fold), edge, |edge| edge.hash(fold));
        to
    }

    fn edge(
        &self,
        from: u32,
        before: &[u8],
        after: &[u8],
        gap: Option<u32>,
        fold: bool,
    ) -> Option<u32> {
        let hash = hash_pair(edge_seed(from, gap), [before, after], fold);
        let is_this = |edge: &Branch| {
            let text = edge.text.as_bytes();
            edge.from == from
                && edge.gap == gap
                && text.len() == before.len() + after.len()
                && same(&text[..before.len()], before, fold)
                && same(&text[before.len()..], after, fold)
        };
        self.edges.iter_hash(hash).find(|edge| is_this(edge)).map(|edge| edge.to)
    }

    fn insert_tail(&mut self, node: u32, tail: Tail<'_>, number: u32, fold: bool) {
        let shape = TailShape {
            slash: tail.slash,
            lead: tail.lead.len() as u32,
            end: tail.end.len() as u32,
        };
        let shapes = &mut self.nodes[node as usize].tails;
        if !shapes.contains(&shape) {
            shapes.push(shape);
        }
        let text: Box<str> = [tail.lead, tail.end].concat().into();
        let hash = tail_hash(node, shape, tail.lead.as_bytes(), tail.end.as_bytes(), fold);
        let is_this = |other: &TailRules| {
            other.node == node
                && other.shape == shape
                && same(other.text.as_bytes(), text.as_bytes(), fold)
        };
        if let Some(known) = self.tails.find_mut(hash, is_this) {
            return known.rules.push(number);
        }
        let rules = Numbers::from_slice(&[number]);
        self.tails
            .insert_unique(hash, TailRules { node, shape, text, rules }, |tail| tail.hash(fold));
    }

    fn tail(&self, node: u32, shape: TailShape, rest: &[u8], fold: bool) -> &[u32] {
        let rest = match (shape.slash, rest) {
            (true, [b'/', rest @ ..]) => rest,
            (true, _) => return &[],
            (false, rest) => rest,
        };
        let (lead_len, end_len) = (shape.lead as usize, shape.end as usize);
        if rest.len() < lead_len + end_len {
            return &[];
        }
        let (lead, end) = (&rest[..lead_len], &rest[rest.len() - end_len..]);
        let is_this = |tail: &TailRules| {
            let (tail_lead, tail_end) = tail.texts();
            tail.node == node
                && tail.shape == shape
                && same(tail_lead, lead, fold)
                && same(tail_end, end, fold)
        };
        self.tails
            .find(tail_hash(node, shape, lead, end, fold), is_this)
            .map_or(&[], |tail| &tail.rules)
    }
}

/// The bit of a segment's first byte; letters that differ only in case share one, and so do an
/// empty segment and no segment.
fn text_bit(segment: &[u8]) -> u64 {
    match segment.first() {
        None | Some(b'/') => 1,
        Some(byte) => 1 << ((byte | 0x20) % 64),
    }
}

fn edge_seed(from: u32, gap: Option<u32>) -> u64 {
    u64::from(from) << 32 | u64::from(gap.map_or(0, |gap| gap + 1))
}

fn tail_hash(node: u32, shape: TailShape, lead: &[u8], end: &[u8], fold: bool) -> u64 {
    hash_pair(u64::from(node) << 1 | u64::from(shape.slash), [lead, end], fold)
}

impl Node {
    /// Whether anything stands below the node for a path that goes on so, its `/` first.
    #[inline]
    fn could_lead(&self, rest: &[u8]) -> bool {
        let by_text = rest.get(1..).is_some_and(|segment| self.texts & text_bit(segment) != 0);
        by_text || !self.tails.is_empty() || !self.around.is_empty()
    }
}

impl Branch {
    fn hash(&self, fold: bool) -> u64 {
        let text = self.text.as_bytes();
        let (before, after) = text.split_at(self.gap.map_or(text.len(), |gap| gap as usize));
        hash_pair(edge_seed(self.from, self.gap), [before, after], fold)
    }
}

impl TailRules {
    fn texts(&self) -> (&[u8], &[u8]) {
        self.text.as_bytes().split_at(self.shape.lead as usize)
    }

    fn hash(&self, fold: bool) -> u64 {
        let (lead, end) = self.texts();
        tail_hash(self.node, self.shape, lead, end, fold)
    }
}
