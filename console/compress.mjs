// Writes what is served compressed beside each file of the console, once, when it is built.
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, constants, gzipSync } from 'node:zlib'

const dist = new URL('../internal/web/dist/', import.meta.url).pathname
const worth = /\.(js|css|html|svg|json)$/

function* files(dir) {
  for (const name of readdirSync(dir)) {
    const path = join(dir, name)
    if (statSync(path).isDirectory()) yield* files(path)
    else if (worth.test(name) && statSync(path).size > 600) yield path
  }
}
for (const path of files(dist)) {
  const raw = readFileSync(path)
  const text = { params: { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: raw.length } }
  writeFileSync(`${path}.br`, brotliCompressSync(raw, text))
  writeFileSync(`${path}.gz`, gzipSync(raw, { level: 9 }))
}
