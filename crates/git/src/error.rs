//! Why a call of `git` gave nothing.

/// Why a call gave nothing.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// `git` could not be run at all.
    #[error("git cannot be run: {0}")]
    NotRun(std::io::Error),
    /// It said no; in its own words.
    #[error("git {act}: {said}")]
    Said {
        /// The operation that failed.
        act: String,
        /// Git's output.
        said: String,
    },
    /// It took too long.
    #[error("git {act} took longer than {seconds} s and was ended")]
    Late {
        /// The operation that failed.
        act: String,
        /// The limit.
        seconds: u64,
    },
    /// The repository is larger than is kept.
    #[error("the repository takes {mib} MiB here, more than the {limit} MiB that are kept of one")]
    TooLarge {
        /// Its size.
        mib: u64,
        /// The limit.
        limit: u64,
    },
    /// A folder or host that the platform's owner does not allow, and how to allow it.
    #[error("{0}")]
    NotAllowed(String),
    /// Something on this machine went wrong.
    #[error("{path}: {error}")]
    Here {
        /// Where.
        path: String,
        /// What.
        error: std::io::Error,
    },
}
