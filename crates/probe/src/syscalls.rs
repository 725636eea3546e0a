//! Every system call by its number, each in a process of its own: one that is let through may do anything.

/// What a process that is made for one call may take.
const WITHIN_SECONDS: libc::c_uint = 2;

/// Tries every number below `most`; says of each what the kernel answered.
pub fn every(most: i64) {
    for number in 0..most {
        println!("call {number} | {}", outcome(number));
    }
}

/// The error number, `done`, or how the process ended that made the call.
fn outcome(number: i64) -> String {
    // SAFETY: one thread; the child makes system calls only and ends.
    unsafe {
        let child = libc::fork();
        if child < 0 {
            return "no process could be made".to_owned();
        }
        if child == 0 {
            libc::alarm(WITHIN_SECONDS);
            // Nothing that it writes is taken for what is said of it.
            for descriptor in 0..8 {
                libc::close(descriptor);
            }
            *libc::__errno_location() = 0;
            // Pointers of nowhere: what reads an argument fails, and what has none is carried out.
            let answer = libc::syscall(number, -1i64, 0i64, 0i64, 0i64, 0i64, 0i64);
            let error = if answer < 0 { *libc::__errno_location() } else { 0 };
            libc::_exit(if error > 250 { 250 } else { error });
        }
        let mut status = 0;
        libc::waitpid(child, &mut status, 0);
        if libc::WIFEXITED(status) {
            match libc::WEXITSTATUS(status) {
                0 => "done".to_owned(),
                error => format!("error {error}"),
            }
        } else {
            format!("ended by signal {}", libc::WTERMSIG(status))
        }
    }
}
