//! A short queue that visitors share fairly: the next of each in turn, and no more room for one than for others.

use std::collections::{BTreeMap, VecDeque};

/// Things that wait, by who they are of. Of one visitor, the one that came first goes first.
#[derive(Debug)]
pub struct FairQueue<K, T> {
    waiting: BTreeMap<K, VecDeque<(u64, T)>>,
    /// Whose turn it is.
    turns: VecDeque<K>,
    length: usize,
    next: u64,
}

/// What came of pushing.
#[derive(Debug, PartialEq, Eq)]
pub enum Pushed<T> {
    /// It waits, under this number.
    Waits(u64),
    /// It waits under this number in the place of another's, who had more in the queue.
    Instead(u64, T),
    /// There is no room.
    Full(T),
}

impl<K, T> Default for FairQueue<K, T> {
    fn default() -> FairQueue<K, T> {
        FairQueue { waiting: BTreeMap::new(), turns: VecDeque::new(), length: 0, next: 0 }
    }
}

impl<K: Ord + Clone, T> FairQueue<K, T> {
    /// How many wait.
    pub fn len(&self) -> usize {
        self.length
    }

    /// Whether nothing waits.
    pub fn is_empty(&self) -> bool {
        self.length == 0
    }

    /// Adds one, where fewer than `most` wait. Where the queue is full, it takes the place of the newest of the visitor with most in
    /// it, if that is more than its own visitor has.
    pub fn push(&mut self, key: K, item: T, most: usize) -> Pushed<T> {
        if self.length < most {
            return Pushed::Waits(self.add(key, item));
        }
        let own = self.waiting.get(&key).map_or(0, VecDeque::len);
        let largest = self.waiting.iter().max_by_key(|(_, list)| list.len());
        let Some((largest, _)) = largest.filter(|(_, list)| list.len() > own + 1) else {
            return Pushed::Full(item);
        };
        let largest = largest.clone();
        match self.waiting.get_mut(&largest).and_then(VecDeque::pop_back) {
            Some((_, put_out)) => {
                self.length -= 1;
                self.tidy(&largest);
                Pushed::Instead(self.add(key, item), put_out)
            }
            None => Pushed::Full(item),
        }
    }

    /// The next one, each visitor's in turn.
    pub fn pop(&mut self) -> Option<T> {
        let key = self.turns.pop_front()?;
        let list = self.waiting.get_mut(&key)?;
        let (_, item) = list.pop_front()?;
        self.length -= 1;
        if list.is_empty() {
            self.waiting.remove(&key);
        } else {
            self.turns.push_back(key);
        }
        Some(item)
    }

    /// Takes one out that waits no longer.
    pub fn remove(&mut self, key: &K, number: u64) -> Option<T> {
        let list = self.waiting.get_mut(key)?;
        let place = list.iter().position(|(known, _)| *known == number)?;
        let (_, item) = list.remove(place)?;
        self.length -= 1;
        self.tidy(key);
        Some(item)
    }

    fn add(&mut self, key: K, item: T) -> u64 {
        let number = self.next;
        self.next += 1;
        self.length += 1;
        let list = self.waiting.entry(key.clone()).or_default();
        if list.is_empty() {
            self.turns.push_back(key);
        }
        list.push_back((number, item));
        number
    }

    /// Forgets a visitor that has nothing in the queue any more.
    fn tidy(&mut self, key: &K) {
        if self.waiting.get(key).is_some_and(VecDeque::is_empty) {
            self.waiting.remove(key);
            self.turns.retain(|known| known != key);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn visitors_take_turns_and_the_greedy_one_gives_way() {
        let mut queue = FairQueue::default();
        for number in 0..4 {
            assert_eq!(queue.push("greedy", number, 5), Pushed::Waits(number));
        }
        assert_eq!(queue.push("modest", 10, 5), Pushed::Waits(4));
        assert_eq!(queue.push("greedy", 4, 5), Pushed::Full(4));
        assert_eq!(
            queue.push("modest", 11, 5),
            Pushed::Instead(5, 3),
            "the newest of the greedy one gives way"
        );
        assert_eq!(queue.remove(&"greedy", 1), Some(1), "it waits no longer");
        let order: Vec<u64> = std::iter::from_fn(|| queue.pop()).collect();
        assert_eq!(order, [0, 10, 2, 11]);
        assert!(queue.is_empty() && queue.pop().is_none());
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_nothing_comes_twice(acts in proptest::collection::vec((0u8..4, 0u8..5), 0..200)) {
            let (mut queue, mut inside, mut numbers) = (FairQueue::default(), Vec::new(), Vec::new());
            for (item, (act, key)) in acts.into_iter().enumerate() {
                match act {
                    0 | 1 => match queue.push(key, item, 8) {
                        Pushed::Waits(number) => {
                            inside.push(item);
                            numbers.push((key, number, item));
                        }
                        Pushed::Instead(number, put_out) => {
                            inside.retain(|known| *known != put_out);
                            inside.push(item);
                            numbers.push((key, number, item));
                        }
                        Pushed::Full(back) => prop_assert_eq!(back, item),
                    },
                    2 => {
                        let popped = queue.pop();
                        prop_assert_eq!(popped.is_none(), inside.is_empty());
                        inside.retain(|known| Some(*known) != popped);
                    }
                    _ => {
                        if let Some((key, number, known)) = numbers.pop() {
                            let there = inside.contains(&known);
                            prop_assert_eq!(queue.remove(&key, number), there.then_some(known));
                            inside.retain(|other| *other != known);
                        }
                    }
                }
                prop_assert_eq!(queue.len(), inside.len());
                prop_assert!(queue.len() <= 8);
            }
        }
    }
}
