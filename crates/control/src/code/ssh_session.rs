//! Clone, fetch and push over ssh. The system's ssh server lets members in by their keys, and runs this client's
//! `ssh session` for them; that calls here, over a socket that only its account reaches.

use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use actix_web::web::Data;
use mainyard_core::model::Target;
use mainyard_git::hosting::advertisement;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::unix::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{UnixListener, UnixStream};

use super::access::{Service, asked_over_ssh, may_be_pushed_to};
use super::follow::Output;
use super::push::{Pusher, Refused, finish, take};
use super::repositories::{self, opened};
use crate::Control;
use crate::builds::Shared;

/// Sessions at once.
const SESSIONS: usize = 64;

/// Who calls, and what for: the first line of a session.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SshSession {
    /// The fingerprint of the key that let the caller in.
    pub key: String,
    /// The command that the client of ssh asked for.
    pub command: String,
    /// The version of Git's protocol that it asked for.
    pub protocol: String,
}

/// Where sessions call, and the account that they have.
#[derive(Debug, Clone)]
pub struct SshDoor {
    /// The socket.
    pub socket: PathBuf,
    /// The only account, beside this process's own, that may call.
    pub account: Option<u32>,
}

/// Takes sessions, for as long as this process lives.
pub(crate) async fn serve_sessions(control: Data<Control>, door: SshDoor) {
    let listener = match open(&door.socket, door.account) {
        Ok(listener) => listener,
        Err(error) => return tracing::error!(%error, "code cannot be reached over ssh"),
    };
    let room = Arc::new(tokio::sync::Semaphore::new(SESSIONS));
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        let caller = stream.peer_cred().map(|peer| peer.uid());
        // SAFETY: no memory is involved.
        let own = unsafe { libc::geteuid() };
        if !caller.is_ok_and(|caller| caller == own || Some(caller) == door.account) {
            continue;
        }
        let Ok(room) = Arc::clone(&room).try_acquire_owned() else { continue };
        let control = control.clone();
        actix_web::rt::spawn(async move {
            let _room = room;
            if let Err(error) = session(control.into_inner(), stream).await {
                tracing::debug!(%error, "a session over ssh ended");
            }
        });
    }
}

fn open(socket: &Path, account: Option<u32>) -> std::io::Result<UnixListener> {
    match std::fs::remove_file(socket) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let listener = UnixListener::bind(socket)?;
    std::fs::set_permissions(socket, std::fs::Permissions::from_mode(0o600))?;
    if let Some(account) = account {
        chown(socket, Some(account), Some(account))?;
    }
    Ok(listener)
}

async fn session(control: Shared, stream: UnixStream) -> std::io::Result<()> {
    let (from, mut to) = stream.into_split();
    let mut from = BufReader::new(from);
    let mut line = String::new();
    from.read_line(&mut line).await?;
    let outcome = match serde_json::from_str::<SshSession>(&line) {
        Ok(asked) => serve(&control, &asked, from, &mut to).await,
        Err(_) => Ok(Err("the session cannot be read".to_owned())),
    }?;
    if let Err(words) = outcome {
        // A line of the protocol that every client shows.
        to.write_all(&mainyard_git::hosting::pkt_line::line(format!("ERR {words}\n").as_bytes())).await?;
    }
    to.shutdown().await
}

/// Serves a session; the inner error is told to the person.
async fn serve(
    control: &Shared,
    asked: &SshSession,
    mut from: BufReader<OwnedReadHalf>,
    to: &mut OwnedWriteHalf,
) -> std::io::Result<Result<(), String>> {
    let keys = match control.store.ssh_keys().await {
        Ok(keys) => keys,
        Err(error) => return Ok(Err(error.to_string())),
    };
    let Some(key) = keys.into_iter().find(|key| key.fingerprint == asked.key) else {
        return Ok(Err("this key is not known any more; add it with: mainyard key add".to_owned()));
    };
    let Some((service, target)) = asked_over_ssh(&asked.command) else {
        let words = "only Git is served here: git clone ssh://HOST:PORT/ENVIRONMENT/NAME";
        return Ok(Err(words.to_owned()));
    };
    if let Some(holder) = control.leader.elsewhere() {
        return Ok(Err(format!("{} decides now, at {}", holder.name, holder.url)));
    }
    match service {
        Service::Upload => fetch(control, &target, &asked.protocol, from, to).await,
        Service::Receive => push(control, Pusher { member: key.member, target }, &mut from, to).await,
    }
}

async fn fetch(
    control: &Shared,
    target: &Target,
    protocol: &str,
    mut from: BufReader<OwnedReadHalf>,
    to: &mut OwnedWriteHalf,
) -> std::io::Result<Result<(), String>> {
    let kept = match repositories::known(&control.store, target).await {
        Ok(kept) => kept,
        Err(problem) => return Ok(Err(problem.detail)),
    };
    let child = {
        let turn = control.code.turn(target);
        let _turn = turn.lock().await;
        let repository = match opened(control, &kept).await {
            Ok(repository) => repository,
            Err(problem) => return Ok(Err(problem.detail)),
        };
        repository.upload(protocol, false, false)
    };
    let mut child = match child {
        Ok(child) => child,
        Err(error) => return Ok(Err(error.to_string())),
    };
    let (Some(mut stdin), Some(mut stdout)) = (child.stdin.take(), child.stdout.take()) else {
        return Ok(Err("git has no pipes".to_owned()));
    };
    tokio::select! {
        sent = tokio::io::copy(&mut stdout, to) => sent.map(drop)?,
        // A client that has left asks for nothing more; what it asked for is still answered above.
        _ = async { let _ = tokio::io::copy(&mut from, &mut stdin).await; drop(stdin); std::future::pending::<()>().await } => {}
    }
    child.wait().await?;
    Ok(Ok(()))
}

async fn push(
    control: &Shared,
    pusher: Pusher,
    from: &mut BufReader<OwnedReadHalf>,
    to: &mut OwnedWriteHalf,
) -> std::io::Result<Result<(), String>> {
    if let Err(words) = may_be_pushed_to(control, &pusher.target).await {
        return Ok(Err(words));
    }
    let kept = match repositories::find(&control.store, &pusher.target).await {
        Ok(kept) => kept,
        Err(error) => return Ok(Err(error.to_string())),
    };
    let refs = kept.map(|kept| kept.code.refs).unwrap_or_default();
    to.write_all(&advertisement(refs.iter().map(|(name, id)| (name.as_str(), id.as_str())))).await?;
    let taken = match take(control, &pusher, from, false).await {
        Ok(taken) => taken,
        Err(Refused::Push(error)) => return Ok(Err(error.to_string())),
        Err(Refused::Platform(problem)) => return Ok(Err(problem.detail)),
    };
    let (output, mut sent) = Output::new();
    actix_web::rt::spawn(finish(Arc::clone(control), pusher, taken, output));
    while let Some(piece) = sent.recv().await {
        to.write_all(&piece).await?;
    }
    Ok(Ok(()))
}
