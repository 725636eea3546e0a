//! The account that the server runs as, and its way to its own directory.

use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::Path;

use crate::{Doing, Error};

/// The account a server runs as.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Account {
    pub uid: u32,
    pub gid: u32,
}

/// For root, the account that the server runs as: the owner of what is there already, so that root can stop what
/// an ordinary account started; otherwise `postgres`.
pub(crate) fn account_for(dir: &Path) -> Result<Option<Account>, Error> {
    // SAFETY: no memory is involved.
    if unsafe { libc::geteuid() } != 0 {
        return Ok(None);
    }
    if let Ok(found) = fs::metadata(dir.join("data"))
        && found.uid() != 0
    {
        return Ok(Some(Account { uid: found.uid(), gid: found.gid() }));
    }
    let users = fs::read_to_string("/etc/passwd").doing("read /etc/passwd")?;
    let fields =
        users.lines().map(|line| line.split(':').collect::<Vec<_>>()).find(|fields| fields[0] == "postgres");
    let id = |fields: &[&str], at: usize| fields.get(at).and_then(|text| text.parse().ok());
    let account = fields.and_then(|fields| Some(Account { uid: id(&fields, 2)?, gid: id(&fields, 3)? }));
    account.map(Some).ok_or(Error::NoAccount)
}

/// Every directory above must let the account pass. The one right above is the platform's own, and lets it pass by an
/// access list; others are nobody's to change.
pub(crate) fn passable(dir: &Path, account: Account) -> Result<(), Error> {
    let whole = fs::canonicalize(dir).doing(format!("find {}", dir.display()))?;
    let others_may = |dir: &Path| fs::metadata(dir).is_ok_and(|found| found.mode() & 0o001 != 0);
    if let Some(own) = whole.parent().filter(|own| !others_may(own))
        && let_pass(own, account.uid).is_err()
    {
        // A file system without access lists: the group's mode says the same.
        chown(own, None, Some(account.gid)).doing(format!("let PostgreSQL pass {}", own.display()))?;
        fs::set_permissions(own, fs::Permissions::from_mode(0o710))
            .doing(format!("let PostgreSQL pass {}", own.display()))?;
    }
    for above in whole.ancestors().skip(2) {
        let found = fs::metadata(above).doing(format!("look at {}", above.display()))?;
        let mode = found.mode() & 0o7777;
        let may = if found.uid() == account.uid {
            mode & 0o100
        } else if found.gid() == account.gid {
            mode & 0o010
        } else {
            mode & 0o001
        };
        if may == 0 {
            return Err(Error::ShutOut { dir: above.to_owned(), mode });
        }
    }
    Ok(())
}

/// An access list (POSIX 1003.1e draft 17, as Linux keeps it in `system.posix_acl_access`) by which one account may
/// pass through a directory, and nobody else but its owner.
fn let_pass(dir: &Path, uid: u32) -> io::Result<()> {
    const VERSION: u32 = 2;
    const NOBODY: u32 = u32::MAX;
    let entries: [(u16, u16, u32); 5] =
        [(0x01, 7, NOBODY), (0x02, 1, uid), (0x04, 0, NOBODY), (0x10, 1, NOBODY), (0x20, 0, NOBODY)];
    let mut list = VERSION.to_le_bytes().to_vec();
    for (tag, permissions, id) in entries {
        list.extend(tag.to_le_bytes());
        list.extend(permissions.to_le_bytes());
        list.extend(id.to_le_bytes());
    }
    let path = std::ffi::CString::new(dir.as_os_str().as_encoded_bytes()).map_err(io::Error::other)?;
    let name = c"system.posix_acl_access";
    // SAFETY: pointers and lengths belong together and live across the call.
    let set = unsafe { libc::setxattr(path.as_ptr(), name.as_ptr(), list.as_ptr().cast(), list.len(), 0) };
    if set == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
