//! Documents in order, within a budget of memory: what does not fit goes to files without names, sorted, and is merged at the end.

use std::cmp::Ordering;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};

use idle_tide_core::document::compare::order;
use idle_tide_core::document::{Datum, Document, bson};

use super::expr::{Hop, at_path};

/// Sorts documents by paths; equal ones keep their first order.
pub(crate) struct Sorter {
    paths: Vec<(Vec<Hop>, bool)>,
    held: Vec<(Vec<Datum>, Document)>,
    bytes: usize,
    budget: usize,
    runs: Vec<BufReader<File>>,
    /// At most so many are wanted.
    most: Option<usize>,
}

/// What a document is sorted by: of a list its smallest element, downwards its largest; an empty list before everything.
pub(crate) fn sort_key(document: &Document, hops: &[Hop], down: bool) -> Datum {
    match at_path(document, hops).into_owned() {
        None | Some(Datum::Null) => Datum::Null,
        Some(Datum::List(list)) => {
            let best = list.into_iter().reduce(|a, b| {
                if (order(&b, &a) == Ordering::Less) == down {
                    a
                } else {
                    b
                }
            });
            best.unwrap_or(Datum::Undefined)
        }
        Some(value) => value,
    }
}

impl Sorter {
    pub(crate) fn new(paths: Vec<(Vec<Hop>, bool)>, budget: usize, most: Option<usize>) -> Self {
        Sorter {
            paths,
            held: Vec::new(),
            bytes: 0,
            budget,
            runs: Vec::new(),
            most,
        }
    }

    fn keys(&self, document: &Document) -> Vec<Datum> {
        self.paths
            .iter()
            .map(|(hops, down)| sort_key(document, hops, *down))
            .collect()
    }

    fn compare(&self, a: &[Datum], b: &[Datum]) -> Ordering {
        self.paths
            .iter()
            .zip(a.iter().zip(b))
            .map(|((_, down), (a, b))| if *down { order(b, a) } else { order(a, b) })
            .find(|found| found.is_ne())
            .unwrap_or(Ordering::Equal)
    }

    pub(crate) fn push(&mut self, document: Document) -> io::Result<()> {
        let keys = self.keys(&document);
        self.bytes += document.size() + 64 * keys.len() + 48;
        self.held.push((keys, document));
        if let Some(most) = self.most
            && self.held.len() >= 2 * most + 1_000
        {
            self.sort();
            self.held.truncate(most);
            self.bytes = self
                .held
                .iter()
                .map(|(keys, d)| d.size() + 64 * keys.len() + 48)
                .sum();
        }
        if self.bytes > self.budget {
            self.spill()?;
        }
        Ok(())
    }

    fn sort(&mut self) {
        let mut held = std::mem::take(&mut self.held);
        held.sort_by(|a, b| self.compare(&a.0, &b.0));
        self.held = held;
    }

    fn spill(&mut self) -> io::Result<()> {
        self.sort();
        let mut file = tempfile::tempfile()?;
        let mut bytes = Vec::with_capacity(1 << 20);
        for (_, document) in self.held.drain(..) {
            bson::write(&document, &mut bytes);
            if bytes.len() > 1 << 20 {
                file.write_all(&bytes)?;
                bytes.clear();
            }
        }
        file.write_all(&bytes)?;
        file.seek(SeekFrom::Start(0))?;
        self.runs.push(BufReader::with_capacity(1 << 18, file));
        self.bytes = 0;
        Ok(())
    }

    /// Hands over all in order, until `take` answers false.
    pub(crate) fn finish<E: From<io::Error>>(
        mut self,
        take: &mut dyn FnMut(Document) -> Result<bool, E>,
    ) -> Result<(), E> {
        self.sort();
        if self.runs.is_empty() {
            for (_, document) in std::mem::take(&mut self.held) {
                if !take(document)? {
                    break;
                }
            }
            return Ok(());
        }
        // The run in memory is the last; of equal documents the earlier run's comes first.
        let mut runs = std::mem::take(&mut self.runs);
        let mut memory = std::mem::take(&mut self.held).into_iter();
        let mut heads: Vec<Option<(Vec<Datum>, Document)>> = Vec::new();
        for run in &mut runs {
            heads.push(next(run)?.map(|d| (self.keys(&d), d)));
        }
        heads.push(memory.next());
        loop {
            let mut best: Option<usize> = None;
            for (at, head) in heads.iter().enumerate() {
                let Some((keys, _)) = head else { continue };
                let better = match best.and_then(|b| heads[b].as_ref()) {
                    Some((known, _)) => self.compare(keys, known) == Ordering::Less,
                    None => true,
                };
                if better {
                    best = Some(at);
                }
            }
            let Some(best) = best else { return Ok(()) };
            let following = match runs.get_mut(best) {
                Some(run) => next(run)?.map(|d| (self.keys(&d), d)),
                None => memory.next(),
            };
            let taken = std::mem::replace(&mut heads[best], following);
            if let Some((_, document)) = taken
                && !take(document)?
            {
                return Ok(());
            }
        }
    }
}

fn next(run: &mut BufReader<File>) -> io::Result<Option<Document>> {
    let mut length = [0; 4];
    match run.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    let mut bytes = vec![0; u32::from_le_bytes(length) as usize];
    bytes[..4].copy_from_slice(&length);
    run.read_exact(&mut bytes[4..])?;
    Ok(Some(bson::tree(&bytes)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document;

    #[test]
    fn what_does_not_fit_is_merged_from_files_in_a_stable_order() {
        let path = vec![(vec![Hop::Name("k".into())], true)];
        let sorted = |budget: usize, most: Option<usize>| {
            let mut sorter = Sorter::new(path.clone(), budget, most);
            for n in 0..5_000_i32 {
                sorter
                    .push(document! { "k": n * 7_919 % 13, "n": n })
                    .expect("taken");
            }
            let mut all = Vec::new();
            sorter
                .finish::<io::Error>(&mut |d| {
                    all.push(d.get("n").and_then(Datum::as_i64).unwrap_or(-1));
                    Ok(all.len() < most.unwrap_or(usize::MAX))
                })
                .expect("merged");
            all
        };
        let plain = sorted(usize::MAX, None);
        assert_eq!(plain.len(), 5_000);
        assert_eq!(sorted(40_000, None), plain);
        assert_eq!(sorted(usize::MAX, Some(100)), plain[..100]);
    }
}
