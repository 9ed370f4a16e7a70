//! What is said of the repeats of a leg is said once.

use std::collections::HashMap;

/// What was said of legs, by their line in the text: where it stands, and how many of its repeats it holds for too.
#[derive(Default)]
pub(super) struct Folded(HashMap<usize, (usize, usize)>);

impl Folded {
    /// Takes back what was said since there were `had` sentences, where as much was said of that line already.
    pub(super) fn fold(&mut self, said: &mut Vec<String>, had: usize, line: usize) {
        if said.len() == had {
            return;
        }
        match self.0.get_mut(&line) {
            Some(known) => {
                known.1 += 1;
                said.truncate(had);
            }
            None => {
                self.0.insert(line, (had, 0));
            }
        }
    }

    pub(super) fn count(&self, said: &mut [String]) {
        for (at, more) in self.0.values().filter(|v| v.1 > 0) {
            if let Some(text) = said.get_mut(*at) {
                text.push_str(&format!(" The same holds for {more} more of its repeats."));
            }
        }
    }
}
