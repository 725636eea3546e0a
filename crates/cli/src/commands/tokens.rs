//! Tokens and sessions of the console.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::args::Token;
use crate::client::Client;
use crate::show::{print, table};
use crate::terminal::{Failure, age, count};

/// A token or session, as the API tells of it.
#[derive(Serialize, Deserialize)]
struct Entry {
    id: String,
    name: String,
    scope: String,
    member: String,
    part: Option<String>,
    created: Timestamp,
    expires: Option<Timestamp>,
    last_used: Option<Timestamp>,
    current: bool,
}

pub async fn run(client: &Client, what: Token) -> Result<(), Failure> {
    match what {
        Token::Add { name, part, lasts, output } => {
            let made = client.post("/tokens", &json!({"name": name, "part": part, "lasts": lasts})).await?;
            if output.json {
                println!("{made:#}");
            } else {
                println!("{}", made["token"].as_str().unwrap_or_default());
                eprintln!(
                    "Keep it: it is not shown again. Use it as MAINYARD_TOKEN; end it with: mainyard token remove {name}"
                );
            }
            Ok(())
        }
        Token::List { output } => list(client, output.json).await,
        Token::Remove { token } => remove(client, &token).await,
    }
}

async fn list(client: &Client, as_json: bool) -> Result<(), Failure> {
    let answer = client.get("/tokens").await?;
    if as_json {
        println!("{answer:#}");
        return Ok(());
    }
    let entries: Vec<Entry> = serde_json::from_value(answer)
        .map_err(|error| Failure::failed(format!("the list of tokens cannot be read: {error}")))?;
    let now = Timestamp::now();
    let mut rows = table(&["ID", "NAME", "SCOPE", "MEMBER", "ENDS", "LAST USED"]);
    for entry in entries {
        let never = |words: &str| words.to_owned();
        rows.add_row([
            entry.id,
            if entry.current { format!("{} (this one)", entry.name) } else { entry.name },
            entry.part.unwrap_or(entry.scope),
            entry.member,
            entry.expires.map_or_else(|| never("never"), |at| format!("in {}", age(at.duration_since(now)))),
            entry
                .last_used
                .map_or_else(|| never("not yet"), |at| format!("{} ago", age(now.duration_since(at)))),
        ]);
    }
    print(&rows);
    Ok(())
}

pub async fn remove(client: &Client, token: &str) -> Result<(), Failure> {
    let plain = |letter: char| letter.is_ascii_alphanumeric() || letter == '-';
    if token.is_empty() || !token.chars().all(plain) {
        return Err(Failure::usage(format!("`{token}` is no id; see the ids with: mainyard token list")));
    }
    let ended = client.delete(&format!("/tokens/{token}")).await?;
    let text = |key: &str| ended[key].as_str().unwrap_or_default();
    println!("{} ({}) has ended, and is refused from now on", text("ended"), text("name"));
    Ok(())
}

pub async fn end_sessions(client: &Client) -> Result<(), Failure> {
    let ended = client.delete("/sessions").await?;
    let ended = count(ended["ended"].as_u64().unwrap_or(0) as usize, "sign-in or session");
    println!("ended: {ended}. Sign in again with: mainyard sign-in");
    Ok(())
}
