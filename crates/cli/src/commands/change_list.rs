//! Changes as they are reported, and followed to their end.

use mainyard_core::declare::{ChangeKind, ChangeLine};
use mainyard_core::model::{Name, Signal, Target};

use crate::client::Client;
use crate::terminal::{Failure, Paint};
use crate::{progress, times};

/// One line for each change.
pub(super) fn print_lines(lines: &[ChangeLine]) {
    let paint = Paint::stdout();
    for line in lines {
        let (sign, signal) = match line.kind {
            ChangeKind::Add => ("+", Signal::Good),
            ChangeKind::Change => ("~", Signal::Moving),
            ChangeKind::Remove => ("-", Signal::Fault),
        };
        println!("  {} {}  {}", paint.signal(signal, sign), line.object, times::local(&line.words));
    }
}

/// Follows every workload of the lines until it has got there.
pub(super) async fn follow_lines(
    client: &Client,
    environment: &Name,
    lines: &[ChangeLine],
) -> Result<(), Failure> {
    for line in lines.iter().filter(|line| line.kind != ChangeKind::Remove) {
        let Some(name) = &line.workload else { continue };
        let target = Target::new(environment, name);
        if let Some(release) = line.release {
            progress::rollout(client, &target, release).await?;
        }
        progress::scaling(client, &target).await?;
    }
    Ok(())
}
