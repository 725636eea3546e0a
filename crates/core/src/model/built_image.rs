//! The image that the newest build of a source's folder made, under a name that stays.

use super::{ImageRef, Name, Target};

/// The first word of such an image's repository.
const PREFIX: &str = "built";
/// The tag of all of them: it moves with each build.
const NEWEST: &str = "newest";

/// Code of a source: which source, and the folder of its recipe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuiltFrom {
    /// The source.
    pub source: Target,
    /// The folder with the recipe; empty for the top.
    pub folder: String,
}

impl BuiltFrom {
    /// The image of this code. What a folder's name has beyond the letters of a repository becomes `-`.
    ///
    /// ```
    /// use mainyard_core::model::BuiltFrom;
    ///
    /// let api = BuiltFrom { source: "staging/lockers-code".parse().unwrap(), folder: "api".to_owned() };
    /// assert_eq!(api.image().to_string(), "built/staging/lockers-code/api:newest");
    /// assert_eq!(BuiltFrom::of(&api.image()), Some(api));
    /// ```
    pub fn image(&self) -> ImageRef {
        let Target { environment, name } = &self.source;
        let plain = |letter: char| {
            if letter.is_ascii_lowercase() || letter.is_ascii_digit() { letter } else { '-' }
        };
        let parts = self.folder.split('/').map(|part| part.chars().map(plain).collect::<String>());
        let parts: Vec<String> = parts.map(|part| part.trim_matches('-').to_owned()).collect();
        let folder: String =
            parts.iter().filter(|part| !part.is_empty()).map(|part| format!("/{part}")).collect();
        ImageRef { repository: format!("{PREFIX}/{environment}/{name}{folder}"), tag: NEWEST.to_owned() }
    }

    /// The code that an image is the newest of, where it is one of these.
    pub fn of(image: &ImageRef) -> Option<BuiltFrom> {
        let rest = image.repository.strip_prefix(PREFIX)?.strip_prefix('/')?;
        let mut parts = rest.splitn(3, '/');
        let (environment, source): (Name, Name) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        let folder = parts.next().unwrap_or_default().to_owned();
        (image.tag == NEWEST).then(|| BuiltFrom { source: Target::new(&environment, &source), folder })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_folder_makes_a_name_that_an_image_may_have() {
        for folder in ["", "api", "apps/Web_2", "--/..", "größe"] {
            let source: Target = "staging/lockers-code".parse().expect("a target");
            let image = BuiltFrom { source: source.clone(), folder: folder.to_owned() }.image();
            assert!(image.to_string().parse::<ImageRef>().is_ok(), "{folder}: {image}");
            assert_eq!(BuiltFrom::of(&image).expect("one of these").source, source);
        }
        assert_eq!(BuiltFrom::of(&"lockers/api:newest".parse().expect("an image")), None);
    }
}
