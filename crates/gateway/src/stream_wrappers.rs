//! Streams that look at what is read of another, and write as it does.

/// Writes go to the inner stream, `stream`, as they are.
macro_rules! writes_as_they_are {
    ($wrapper:ident) => {
        impl<S: tokio::io::AsyncWrite + Unpin> tokio::io::AsyncWrite for $wrapper<S> {
            fn poll_write(
                mut self: std::pin::Pin<&mut Self>,
                context: &mut std::task::Context<'_>,
                bytes: &[u8],
            ) -> std::task::Poll<std::io::Result<usize>> {
                std::pin::Pin::new(&mut self.stream).poll_write(context, bytes)
            }

            fn poll_flush(
                mut self: std::pin::Pin<&mut Self>,
                context: &mut std::task::Context<'_>,
            ) -> std::task::Poll<std::io::Result<()>> {
                std::pin::Pin::new(&mut self.stream).poll_flush(context)
            }

            fn poll_shutdown(
                mut self: std::pin::Pin<&mut Self>,
                context: &mut std::task::Context<'_>,
            ) -> std::task::Poll<std::io::Result<()>> {
                std::pin::Pin::new(&mut self.stream).poll_shutdown(context)
            }

            fn is_write_vectored(&self) -> bool {
                self.stream.is_write_vectored()
            }

            fn poll_write_vectored(
                mut self: std::pin::Pin<&mut Self>,
                context: &mut std::task::Context<'_>,
                pieces: &[std::io::IoSlice<'_>],
            ) -> std::task::Poll<std::io::Result<usize>> {
                std::pin::Pin::new(&mut self.stream).poll_write_vectored(context, pieces)
            }
        }
    };
}
pub(crate) use writes_as_they_are;
