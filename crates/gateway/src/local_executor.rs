//! Runs what a connection begins on the worker that has the connection.

use hyper::rt::Executor;

/// Keeps what belongs to a connection on its worker.
#[derive(Clone, Copy)]
pub(crate) struct LocalExecutor;

impl<F: Future + 'static> Executor<F> for LocalExecutor
where
    F::Output: 'static,
{
    fn execute(&self, future: F) {
        tokio::task::spawn_local(future);
    }
}
