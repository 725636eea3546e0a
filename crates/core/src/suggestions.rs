//! The name that was probably meant.

/// The candidates closest to `wanted`, best first, at most three and none that is far off.
pub fn near<'a>(wanted: &str, candidates: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    let mut scored: Vec<(usize, &str)> = candidates
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(wanted, candidate), candidate))
        .filter(|(distance, candidate)| {
            *distance <= 1 + wanted.len().max(candidate.len()) / 4 || shares_a_stem(wanted, candidate)
        })
        .collect();
    scored.sort();
    scored.dedup();
    scored.into_iter().map(|(_, candidate)| candidate).take(3).collect()
}

fn shares_a_stem(a: &str, b: &str) -> bool {
    let stem = a.chars().zip(b.chars()).take_while(|(x, y)| x == y).count();
    stem >= 4 && stem * 2 >= a.len().min(b.len())
}

/// `; did you mean X?`, to be put behind what is wrong; empty where nothing is near.
///
/// ```
/// use mainyard_core::suggestions::did_you_mean;
///
/// let known = ["staging/locker-api", "staging/courier-web"];
/// assert_eq!(did_you_mean("staging/lockr-api", known), "; did you mean `staging/locker-api`?");
/// assert_eq!(did_you_mean("production/mail", known), "");
/// ```
pub fn did_you_mean<'a>(wanted: &str, candidates: impl IntoIterator<Item = &'a str>) -> String {
    near(wanted, candidates).first().map(|name| format!("; did you mean `{name}`?")).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suggests_near_names_only() {
        assert_eq!(near("replcas", ["replicas", "rollout", "reserve"]), ["replicas"]);
        assert_eq!(near("zzz", ["replicas", "image"]), Vec::<&str>::new());
        assert_eq!(
            near("lockers/locker-api:1.5.1", ["lockers/locker-api:1.5.0", "lockers/courier-web:2.3.0"])[0],
            "lockers/locker-api:1.5.0"
        );
    }
}
