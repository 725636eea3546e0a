// Run it with: node --test

const assert = require('node:assert')
const { test } = require('node:test')

const { answer } = require('./server.js')

test('it says that it is well', () => assert.deepStrictEqual(answer('/healthz'), [200, 'well\n']))
test('what is not there is told', () => assert.strictEqual(answer('/nothing')[0], 404))
