//! What PAX records say of a layer's entry beyond its header: extended attributes, exact times, and where the content of a
//! sparse file belongs.
//!
//! PAX records: POSIX.1-2017, pax, "pax Header Block". Attributes: `SCHILY.xattr.NAME`. Sparse files: the formats 0.0, 0.1
//! and 1.0 of GNU tar (its manual, "Storing Sparse Files").

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};

use crate::{Doing, Error};

/// Most pieces of a sparse file, most attributes of an entry, and most bytes of one attribute (the kernel's own limit).
const PIECES: usize = 100_000;
const ATTRIBUTES: usize = 64;
const ATTRIBUTE_BYTES: usize = 65_536;
/// How a file is read; a whole block of zeros becomes a hole.
const BLOCK: usize = 65_536;

/// What the records of one entry say.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Extended {
    /// Attributes that may be set, by name.
    pub(crate) attributes: Vec<(String, Vec<u8>)>,
    /// The time of the last change, in whole seconds since 1970.
    pub(crate) mtime: Option<i64>,
    /// How the content is to be put in place, if the file is sparse.
    pub(crate) sparse: Option<Sparse>,
}

/// A sparse file: its name and length, and its pieces, which the content has one after the other.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Sparse {
    /// The file's own name; the entry's is made up.
    pub(crate) name: Option<String>,
    /// The file's length with its holes, in bytes.
    pub(crate) length: u64,
    /// Offset and length of each piece. Empty where the content itself begins with them (format 1.0).
    pieces: Vec<(u64, u64)>,
    /// Whether the content begins with the pieces.
    leads: bool,
}

impl Extended {
    pub(crate) fn of(entry: &mut tar::Entry<'_, impl Read>) -> Result<Extended, Error> {
        let mut extended = Extended::default();
        let mut numbers = Vec::new();
        let Some(records) = entry.pax_extensions().doing("read the records of")? else { return Ok(extended) };
        for record in records {
            let record = record.doing("read the records of")?;
            let key = String::from_utf8_lossy(record.key_bytes()).into_owned();
            let value = record.value_bytes();
            if let Some(name) = key.strip_prefix("SCHILY.xattr.") {
                extended.attribute(name, value)?;
            } else if let Some(name) = key.strip_prefix("GNU.sparse.") {
                let sparse = extended.sparse.get_or_insert_default();
                sparse.record(name, &String::from_utf8_lossy(value), &mut numbers)?;
            } else if key == "mtime" {
                let text = String::from_utf8_lossy(value);
                extended.mtime = text.split('.').next().and_then(|whole| whole.parse().ok());
            }
        }
        if let Some(sparse) = &mut extended.sparse {
            sparse.pieces = pairs(&numbers)?;
        }
        Ok(extended)
    }

    /// Takes the attributes that mean something inside a replica. Those of overlays would change what lies below, and
    /// labels are the machine's own.
    fn attribute(&mut self, name: &str, value: &[u8]) -> Result<(), Error> {
        let own = name.starts_with("user.") && !name.starts_with("user.overlay.");
        if !own && name != "security.capability" {
            return Ok(());
        }
        if self.attributes.len() == ATTRIBUTES || value.len() > ATTRIBUTE_BYTES {
            let message =
                format!("an entry has more than {ATTRIBUTES} attributes, or one of more than 64 KiB");
            return Err(Error::TooLarge(message));
        }
        self.attributes.push((name.to_owned(), value.to_vec()));
        Ok(())
    }
}

impl Sparse {
    fn record(&mut self, key: &str, value: &str, numbers: &mut Vec<u64>) -> Result<(), Error> {
        match key {
            "name" => self.name = Some(value.to_owned()),
            "size" | "realsize" => self.length = number(value)?,
            "major" => self.leads = value == "1",
            "map" => *numbers = value.split(',').map(number).collect::<Result<_, _>>()?,
            "offset" | "numbytes" => numbers.push(number(value)?),
            _ => {}
        }
        if numbers.len() > 2 * PIECES {
            return Err(Error::TooLarge(format!("a sparse file has more than {PIECES} pieces")));
        }
        Ok(())
    }

    /// Writes the content's pieces to where they belong.
    ///
    /// # Errors
    /// When the pieces overlap, reach past the file's length, or the content has more or fewer bytes than they say.
    pub(crate) fn write(&self, from: &mut impl Read, file: &mut File) -> Result<(), Error> {
        let pieces = if self.leads { leading_pieces(from)? } else { self.pieces.clone() };
        let mut end = 0;
        for (offset, length) in pieces {
            let past = offset.checked_add(length).filter(|past| offset >= end && *past <= self.length);
            end = past.ok_or_else(|| damaged("its pieces overlap, or reach past its length"))?;
            file.seek(SeekFrom::Start(offset)).doing("write the file")?;
            let copied = io::copy(&mut from.by_ref().take(length), file).doing("write the file")?;
            if copied != length {
                return Err(damaged("its content is shorter than its pieces"));
            }
        }
        file.set_len(self.length).doing("write the file")
    }
}

/// Copies a file; blocks of zeros become holes, so that a file which was packed without its holes takes no room for them.
pub(crate) fn copy_with_holes(from: &mut impl Read, file: &mut File) -> io::Result<()> {
    let mut block = vec![0; BLOCK];
    let mut length = 0;
    loop {
        let mut filled = 0;
        while filled < BLOCK {
            match from.read(&mut block[filled..])? {
                0 => break,
                read => filled += read,
            }
        }
        length += filled as u64;
        if filled == BLOCK && block.iter().all(|byte| *byte == 0) {
            file.seek(SeekFrom::Current(BLOCK as i64))?;
        } else {
            file.write_all(&block[..filled])?;
        }
        if filled < BLOCK {
            return file.set_len(length);
        }
    }
}

/// The pieces that a content of format 1.0 begins with: decimal numbers, one a line, filled up to whole records of 512 bytes.
fn leading_pieces(from: &mut impl Read) -> Result<Vec<(u64, u64)>, Error> {
    let mut read = 0;
    let mut line = || -> Result<u64, Error> {
        let mut digits = String::new();
        loop {
            let mut byte = [0];
            from.read_exact(&mut byte).doing("read the pieces of")?;
            read += 1;
            match byte[0] {
                b'\n' => return number(&digits),
                digit @ b'0'..=b'9' if digits.len() < 20 => digits.push(char::from(digit)),
                _ => return Err(damaged("its list of pieces is no list of numbers")),
            }
        }
    };
    let count = line()?;
    if count > PIECES as u64 {
        return Err(Error::TooLarge(format!("a sparse file has more than {PIECES} pieces")));
    }
    let numbers = (0..2 * count).map(|_| line()).collect::<Result<Vec<u64>, Error>>()?;
    let rest = read % 512;
    if rest > 0 {
        io::copy(&mut from.take(512 - rest), &mut io::sink()).doing("read the pieces of")?;
    }
    pairs(&numbers)
}

fn pairs(numbers: &[u64]) -> Result<Vec<(u64, u64)>, Error> {
    let (pairs, []) = numbers.as_chunks::<2>() else {
        return Err(damaged("a piece has an offset and no length"));
    };
    Ok(pairs.iter().map(|[offset, length]| (*offset, *length)).collect())
}

fn number(text: &str) -> Result<u64, Error> {
    text.parse().map_err(|_| damaged("a number was expected"))
}

fn damaged(problem: &str) -> Error {
    Error::Invalid(format!("a sparse file is damaged: {problem}"))
}
