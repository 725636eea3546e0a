//! Tokens and sessions of the console.

use jiff::Timestamp;
use mainyard_api::{
    AddToken, EndSessions, ListTokens, NewToken, NoPath, NoQuery, OfToken, RemoveToken, TokenEntry,
    TokenScope,
};
use mainyard_core::model::Span;

use super::parse_name;
use crate::args::Token;
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, age, count};

pub(crate) async fn run(client: &Client, what: Token) -> Result<(), Failure> {
    match what {
        Token::Add { name, part, lasts, output } => {
            let lasts = Some(lasts).map(|text| {
                text.parse::<Span>()
                    .map_err(|expected| Failure::usage(format!("--lasts {text}: expected {expected}")))
            });
            let body = NewToken { name: parse_name(&name)?, part, lasts: lasts.transpose()? };
            let made = client.ask_with::<AddToken, _>(NoPath {}, NoQuery {}, &body).await?;
            if output.json {
                output::json(&made);
            } else {
                println!("{}", made.token);
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
    let entries: Vec<TokenEntry> = client.ask::<ListTokens>(NoPath {}, NoQuery {}).await?;
    if as_json {
        output::json(&entries);
        return Ok(());
    }
    let now = Timestamp::now();
    let mut rows = table(&["ID", "NAME", "SCOPE", "MEMBER", "ENDS", "LAST USED"]);
    for entry in entries {
        let never = |words: &str| words.to_owned();
        rows.add_row([
            entry.id,
            if entry.current { format!("{} (this one)", entry.name) } else { entry.name },
            entry.part.unwrap_or_else(|| scope(entry.scope).to_owned()),
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

pub(crate) async fn remove(client: &Client, token: &str) -> Result<(), Failure> {
    let plain = |letter: char| letter.is_ascii_alphanumeric() || letter == '-';
    if token.is_empty() || !token.chars().all(plain) {
        return Err(Failure::usage(format!(
            "`{token}` is not an id; list the ids with: mainyard token list"
        )));
    }
    let ended = client.ask::<RemoveToken>(OfToken { id: token.to_owned() }, NoQuery {}).await?;
    println!("{} ({}) has ended, and is refused from now on", ended.ended, ended.name);
    Ok(())
}

fn scope(scope: TokenScope) -> &'static str {
    match scope {
        TokenScope::Client => "client",
        TokenScope::Part => "part",
        TokenScope::Session => "session",
        TokenScope::SignIn => "sign-in",
    }
}

pub(crate) async fn end_sessions(client: &Client) -> Result<(), Failure> {
    let ended = client.ask::<EndSessions>(NoPath {}, NoQuery {}).await?;
    let ended = count(ended.ended as usize, "sign-in or session");
    println!("ended: {ended}. Sign in again with: mainyard sign-in");
    Ok(())
}
