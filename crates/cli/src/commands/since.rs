//! Changes since a moment of the past.

use mainyard_api::{CompareMoments, NoPath, SinceQuery};
use mainyard_core::declare::ChangeKind;
use mainyard_core::difference::Difference;
use mainyard_core::model::{Name, Signal, Target};

use crate::client::Client;
use crate::show::{change, clipped};
use crate::terminal::{Failure, Paint};

/// Says what is not as it was then, in an environment or of one object.
pub(super) async fn since(client: &Client, environment: &Name, of: Option<&Target>) -> Result<(), Failure> {
    let Some(at) = client.as_of else { return Ok(()) };
    let query =
        SinceQuery { as_of: at, environment: environment.clone(), of: of.map(|target| target.name.clone()) };
    let became = client.ask::<CompareMoments>(NoPath {}, query).await?.became;
    let paint = Paint::stdout();
    println!("\n{}", paint.strong(&format!("Since {}", crate::show::moment(at))));
    if became.is_empty() {
        println!("  nothing is otherwise");
    }
    for one in became {
        let name = one.key.split_once('/').map_or(one.key.as_str(), |(_, name)| name);
        let (sign, signal) = match one.change {
            ChangeKind::Add => ("+", Signal::Good),
            ChangeKind::Change => ("~", Signal::Moving),
            ChangeKind::Remove => ("-", Signal::Fault),
        };
        let by = one.origin.as_ref().map_or_else(String::new, |origin| format!("  {}", change(origin)));
        println!("  {} {} {}{}", paint.signal(signal, sign), one.kind, paint.strong(name), paint.quiet(&by));
        for field in &one.fields {
            println!("      {}", clipped(&in_words(field), 140));
        }
    }
    Ok(())
}

/// A field's two sides; where it came, only what it is.
fn in_words(field: &Difference) -> String {
    match (&field.before, &field.after) {
        (None, Some(after)) => format!("{}: {after}", field.field),
        _ => field.to_string(),
    }
}
