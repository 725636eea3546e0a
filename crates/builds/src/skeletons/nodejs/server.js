// A small web service: it answers what it is asked for, and says when it is well.

const http = require('node:http')

/** The status and the text for a path. */
function answer(path) {
  if (path === '/healthz') return [200, 'well\n']
  if (path === '/') return [200, 'Hello from NAME.\n']
  return [404, `There is nothing at ${path}.\n`]
}

function main() {
  const port = Number(process.env.PORT ?? 8080)
  const server = http.createServer((request, reply) => {
    const [status, text] = answer((request.url ?? '/').split('?')[0])
    reply.writeHead(status, { 'Content-Type': 'text/plain; charset=utf-8' }).end(text)
  })
  server.listen(port, () => console.log(`listening on port ${port}`))
  // The platform asks a replica to end with SIGTERM, after its last request has been answered.
  process.on('SIGTERM', () => process.exit(0))
}

if (require.main === module) main()
module.exports = { answer }
