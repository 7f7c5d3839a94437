// Sends a file with tus-js-client, going on after every break. Arguments: address, token, folder, file, and
// how many parts go side by side.
import { createReadStream, statSync } from 'node:fs'
import { createRequire } from 'node:module'

const require = createRequire(new URL('../../../console/package.json', import.meta.url))
const { Upload } = require('tus-js-client')
const [endpoint, token, parent, path, parts] = process.argv.slice(2)

const upload = new Upload(createReadStream(path), {
  endpoint,
  headers: { Authorization: `Bearer ${token}` },
  metadata: { parent, filename: 'scan.tif' },
  // Of parts it finds out by itself.
  uploadSize: parts ? undefined : statSync(path).size,
  chunkSize: 4_000_000,
  parallelUploads: Number(parts ?? 1),
  retryDelays: Array(60).fill(500),
  onShouldRetry: () => true,
  onError: (error) => {
    console.error(String(error))
    process.exit(1)
  },
  onSuccess: () => console.log('sent'),
})
upload.start()
