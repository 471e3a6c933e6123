//! Many alike, done on all processors.

use crate::refusal;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// What comes of each of some, in their order; the first error ends it. Each processor has something of its own that `begin` gives, and takes so many in a row
/// as lie beside each other, so that what neighbours share is had once. `tell` is told how far it is, 0 to 1, and stops it by answering false.
pub(crate) fn each<T: Sync, R: Send, S>(
    all: &[T],
    in_a_row: usize,
    begin: impl Fn() -> S + Sync,
    one: impl Fn(&mut S, &T) -> anyhow::Result<R> + Sync,
    tell: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<Vec<R>> {
    let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
    let done = Mutex::new(Vec::with_capacity(all.len()));
    let locked = || done.lock().unwrap_or_else(PoisonError::into_inner);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let mut own = begin();
                loop {
                    let first = next.fetch_add(in_a_row, Ordering::Relaxed);
                    if first >= all.len() {
                        return;
                    }
                    for (n, of) in all.iter().enumerate().skip(first).take(in_a_row) {
                        if stopped.load(Ordering::Relaxed) {
                            return;
                        }
                        let made = one(&mut own, of);
                        let failed = made.is_err();
                        let mut done = locked();
                        done.push((n, made));
                        if failed || !tell(done.len() as f64 / all.len() as f64) {
                            stopped.store(true, Ordering::Relaxed);
                        }
                    }
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(n, _)| *n);
    let count = done.len();
    let made = done
        .into_iter()
        .map(|(_, made)| made)
        .collect::<anyhow::Result<Vec<R>>>()?;
    if count < all.len() {
        return Err(refusal("Cancelled."));
    }
    Ok(made)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_of_each_stands_in_its_order() {
        let all: Vec<u32> = (0..100).collect();
        let begun = AtomicUsize::new(0);
        let begin = || begun.fetch_add(1, Ordering::Relaxed);
        let double = |_: &mut usize, n: &u32| Ok(n * 2);
        let made = each(&all, 7, begin, double, &|_| true).unwrap();
        assert_eq!(made, (0..100).map(|n| n * 2).collect::<Vec<u32>>());
        assert!(begun.load(Ordering::Relaxed) >= 1);
        let none = each(&[], 1, || (), |(), n: &u32| Ok(*n), &|_| true).unwrap();
        assert_eq!(none, Vec::<u32>::new());
    }

    #[test]
    fn it_ends_with_the_first_error_or_when_nobody_wants_it() {
        let all: Vec<u32> = (0..1_000).collect();
        let fails = |(): &mut (), n: &u32| {
            if *n == 5 {
                Err(anyhow::anyhow!("five"))
            } else {
                Ok(*n)
            }
        };
        let error = each(&all, 1, || (), fails, &|_| true).unwrap_err();
        assert_eq!(error.to_string(), "five");
        let stopped = each(&all, 1, || (), |(), n: &u32| Ok(*n), &|share| share < 0.1).unwrap_err();
        assert!(stopped.downcast_ref::<crate::Refusal>().is_some(), "{stopped}");
    }
}
