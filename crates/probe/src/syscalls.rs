//! Every system call by its number, each in a process of its own: one that is let through may do anything.

/// Resources that a process made for one call may take.
const WITHIN_SECONDS: libc::c_uint = 2;

/// Tries every number below `most`; says of each what the kernel answered.
pub(crate) fn every(most: i64) {
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
            let error = call(number);
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

/// Makes a call with pointers of nowhere, so that what reads an argument fails, and what has none is carried out. Gives
/// the error number. Where the call answers 0, the process ends here: it may be the child of `vfork`, which shares its
/// parent's stack and must not return on it.
#[cfg(target_arch = "x86_64")]
unsafe fn call(number: i64) -> i32 {
    let answer: i64;
    // SAFETY: the instruction changes the three registers that are named; memory is the caller's own process.
    unsafe {
        std::arch::asm!(
            "syscall",
            "test rax, rax",
            "jnz 2f",
            "mov eax, 60", // exit
            "xor edi, edi",
            "syscall",
            "2:",
            inlateout("rax") number => answer,
            inlateout("rdi") -1i64 => _,
            in("rsi") 0i64, in("rdx") 0i64, in("r10") 0i64, in("r8") 0i64, in("r9") 0i64,
            lateout("rcx") _, lateout("r11") _,
        );
    }
    if (-4095..0).contains(&answer) { -answer as i32 } else { 0 }
}

/// The same where there is no `vfork`.
#[cfg(not(target_arch = "x86_64"))]
unsafe fn call(number: i64) -> i32 {
    // SAFETY: the process is there for this call alone.
    unsafe {
        *libc::__errno_location() = 0;
        let answer = libc::syscall(number, -1i64, 0i64, 0i64, 0i64, 0i64, 0i64);
        if answer < 0 { *libc::__errno_location() } else { 0 }
    }
}
