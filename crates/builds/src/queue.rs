//! Which builds go on, and which wait.

use crate::{Build, BuildState};

/// The builds to begin now, the oldest first: no more than `at_once` go on, and of a repository only one, whose caches the
/// next one needs.
pub fn next_to_begin<'a>(builds: impl IntoIterator<Item = &'a Build>, at_once: usize) -> Vec<u64> {
    let mut open: Vec<&Build> = builds.into_iter().filter(|build| !build.state.has_ended()).collect();
    open.sort_by_key(|build| build.number);
    let running = |build: &&&Build| build.state == BuildState::Running;
    let mut busy: Vec<&str> =
        open.iter().filter(running).map(|build| build.image.repository.as_str()).collect();
    let mut begin = Vec::new();
    for build in open.iter().filter(|build| build.state == BuildState::Queued) {
        if busy.len() >= at_once {
            break;
        }
        if !busy.contains(&build.image.repository.as_str()) {
            busy.push(&build.image.repository);
            begin.push(build.number);
        }
    }
    begin
}

/// How many builds are before this one; `None` where it does not wait.
pub fn place_in_queue<'a>(builds: impl IntoIterator<Item = &'a Build>, number: u64) -> Option<usize> {
    let mut waiting: Vec<u64> =
        builds.into_iter().filter(|it| it.state == BuildState::Queued).map(|it| it.number).collect();
    waiting.sort_unstable();
    waiting.iter().position(|it| *it == number)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::build::tests::build;

    fn builds(states: &[(u64, &str, BuildState)]) -> Vec<Build> {
        let of = |(number, image, state): &(u64, &str, BuildState)| {
            let mut build = build(*number, image);
            build.state = *state;
            build
        };
        states.iter().map(of).collect()
    }

    #[test]
    fn the_oldest_begin_within_the_bound_and_one_for_each_repository() {
        use BuildState::{Done, Queued, Running};
        let all = builds(&[
            (5, "lockers/mail:1", Queued),
            (1, "lockers/api:1", Running),
            (2, "lockers/api:2", Queued),
            (3, "lockers/web:1", Queued),
            (4, "lockers/web:2", Queued),
            (0, "lockers/old:1", Done),
        ]);
        assert_eq!(next_to_begin(&all, 3), [3, 5]);
        assert_eq!(next_to_begin(&all, 2), [3]);
        assert_eq!(next_to_begin(&all, 1), [0_u64; 0]);
        assert_eq!([2, 4, 1, 0].map(|number| place_in_queue(&all, number)), [Some(0), Some(2), None, None]);
    }
}
