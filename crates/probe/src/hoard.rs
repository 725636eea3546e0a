//! Things of the kernel's that cost a program nothing and the machine memory.

use std::fs::File;
use std::io::Write;
use std::path::Path;

/// The bound of the attempts, so that a machine without limits survives.
const ENOUGH: usize = 100_000;

/// Opens pseudo-terminals until there are no more, and counts them.
pub(crate) fn terminals() -> usize {
    let open = || File::options().read(true).write(true).open("/dev/ptmx").ok();
    let opened: Vec<File> = (0..1000).map_while(|_| open()).collect();
    opened.len()
}

/// Makes empty files until there is no more room for them, and counts them.
pub(crate) fn files() -> usize {
    (0..ENOUGH).take_while(|number| File::create(format!("/tmp/file-{number}")).is_ok()).count()
}

/// Writes a file until there is no more room; says what the system answered.
pub(crate) fn fill(path: &str) -> String {
    let made =
        Path::new(path).parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| File::create(path));
    let mut file = match made {
        Ok(file) => file,
        Err(error) => return error.to_string(),
    };
    let piece = vec![b'x'; 1 << 20];
    let refused =
        (0..ENOUGH / 100).find_map(|_| file.write_all(&piece).and_then(|()| file.sync_data()).err());
    refused.map_or("no end".to_owned(), |error| error.to_string())
}
