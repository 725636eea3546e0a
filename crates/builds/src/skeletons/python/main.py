"""A small web service: it answers what it is asked for, and says when it is well."""

import os
import signal
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer


def answer(path):
    """The status and the text for a path."""
    if path == "/healthz":
        return 200, "well\n"
    if path == "/":
        return 200, "Hello from NAME.\n"
    return 404, f"There is nothing at {path}.\n"


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        status, text = answer(self.path.split("?")[0])
        body = text.encode()
        self.send_response(status)
        self.send_header("Content-Type", "text/plain; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


def main():
    # The platform asks a replica to end with SIGTERM, after its last request has been answered.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    port = int(os.environ.get("PORT", "8080"))
    print(f"listening on port {port}", flush=True)
    ThreadingHTTPServer(("", port), Handler).serve_forever()


if __name__ == "__main__":
    main()
