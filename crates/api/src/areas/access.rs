//! Signing in and out, and tokens.

use jiff::Timestamp;
use mainyard_core::model::{Name, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::{Anyone, JsonAnswer, JsonBody, NoBody, PageAnswer, Person, operations};
use crate::{Limits, NoPath, NoQuery, OfToken, SignInQuery};

operations! {
    /// Opened by a browser: takes a sign-in key for a session, and leads to the console.
    SignIn: Get "/sign-in" {
        caller: Anyone, path: NoPath, query: SignInQuery, body: NoBody, limits: Limits::NONE,
        answer: PageAnswer, problems: [TooManyAttempts, RecordUnreachable],
    }
    /// Creates a sign-in link for the member who asks.
    AddSignInKey: Post "/api/v1/sign-in-keys" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<SignInKey>, problems: [],
    }
    /// Ends the credential that this request shows: a session of the console, or a client's token.
    SignOut: Post "/api/v1/sign-out" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<SignedOut>, problems: [],
    }
    /// Ends every session of the console, and every sign-in link that was not used.
    EndSessions: Delete "/api/v1/sessions" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<SessionsEnded>, problems: [],
    }
    /// Lists every token and session that is good now.
    ListTokens: Get "/api/v1/tokens" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<TokenEntry>>, problems: [],
    }
    /// Creates a token. This answer is the only one that holds it.
    AddToken: Post "/api/v1/tokens" {
        caller: Person, path: NoPath, query: NoQuery, body: JsonBody<NewToken>, limits: Limits::SMALL,
        answer: JsonAnswer<TokenAdded>, problems: [Conflict],
        example: r#"{"name": "ci", "lasts": "720h"}"#,
    }
    /// Ends a token or a session, named by its id or its name.
    RemoveToken: Delete "/api/v1/tokens/{id}" {
        caller: Person, path: OfToken, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<TokenRemoved>, problems: [NotFound],
    }
}

/// A sign-in link.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SignInKey {
    /// The path to open in a browser, below the API's address.
    pub path: String,
    /// For how many seconds it works; it works once.
    pub good_for_seconds: u64,
}

/// A credential ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SignedOut {
    /// Its id.
    pub ended: String,
}

/// Sessions ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SessionsEnded {
    /// How many.
    pub ended: u64,
}

/// The purpose of a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TokenScope {
    /// The client of a person.
    Client,
    /// A node agent or a gateway.
    Part,
    /// The console in a browser.
    Session,
    /// A sign-in link.
    SignIn,
}

/// A credential, without what it is a credential by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TokenEntry {
    /// Tells it from others; not a secret.
    pub id: String,
    /// Its display name.
    pub name: String,
    /// Its purpose.
    pub scope: TokenScope,
    /// Whose it is.
    pub member: String,
    /// For a part: `node/NAME` or `gateway/NAME`.
    pub part: Option<String>,
    /// When it was made.
    pub created: Timestamp,
    /// When it ends; without end where there is none.
    pub expires: Option<Timestamp>,
    /// When it was last used, to the minute.
    pub last_used: Option<Timestamp>,
    /// Whether this very request shows it.
    pub current: bool,
}

/// A token that is to be made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// Its display name.
    pub name: Name,
    /// For a part of the platform: `node/NAME` or `gateway/NAME`. A client's where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(regex(pattern = r"^(node|gateway)/[a-z](-?[a-z0-9])*$"))]
    pub part: Option<String>,
    /// How long it is good; 90 days where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts: Option<Span>,
}

/// A token was made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TokenAdded {
    /// The token itself. It is not shown again.
    pub token: String,
    /// Its public id.
    pub id: String,
    /// Its display name.
    pub name: Name,
    /// When it ends.
    pub expires: Option<Timestamp>,
}

/// A token ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TokenRemoved {
    /// Its id.
    pub ended: String,
    /// Its name.
    pub name: String,
}
