// sign.mjs REPOSITORY KEYS ROOT NUMBER [plain] - signs the indexes that lie in REPOSITORY/index with the other
// implementation's models: number NUMBER of the documents, under root ROOT. Of root 2 on, the keys of root and timestamp
// are others than in root 1. Prints the fingerprint of root 1. `plain`: without length and digest of documents, which
// the standard allows. The documents are written over several lines, with members in no special order.
import { createHash, generateKeyPairSync, createPrivateKey, createPublicKey, sign } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, readdirSync, writeFileSync, copyFileSync } from 'node:fs'
import { canonicalize } from '@tufjs/canonical-json'
import { Key, MetaFile, Metadata, Root, Signature, Snapshot, TargetFile, Targets, Timestamp } from '@tufjs/models'

const [repository, keys, rootNumber, number, plain] = process.argv.slice(2)
const version = Number(number), rootVersion = Number(rootNumber)
mkdirSync(keys, { recursive: true })
mkdirSync(`${repository}/trust`, { recursive: true })
const sha256 = (bytes) => createHash('sha256').update(bytes).digest('hex')

function keyOf(name) {
  const file = `${keys}/${name}.pem`
  if (!existsSync(file))
    writeFileSync(file, generateKeyPairSync('ed25519').privateKey.export({ type: 'pkcs8', format: 'pem' }))
  const secret = createPrivateKey(readFileSync(file))
  const half = createPublicKey(secret).export({ type: 'spki', format: 'der' }).subarray(-32).toString('hex')
  const object = { keytype: 'ed25519', scheme: 'ed25519', keyval: { public: half } }
  const id = sha256(canonicalize(object))
  const key = new Key({ keyID: id, keyType: 'ed25519', scheme: 'ed25519', keyVal: { public: half } })
  return { key, signer: (data) => new Signature({ keyID: id, sig: sign(null, data, secret).toString('hex') }) }
}

const names = (root) => ({
  root: root === 1 ? ['root-a'] : ['root-b'],
  timestamp: root === 1 ? ['timestamp-a'] : ['timestamp-b'],
  snapshot: ['snapshot'],
  targets: ['targets-a', 'targets-b', 'targets-c'],
})
const thresholds = { root: 1, timestamp: 1, snapshot: 1, targets: 2 }
const common = { version, specVersion: '1.0.31', expires: new Date(Date.now() + 40 * 86400e3).toISOString().replace(/\.\d+Z$/, 'Z') }

function write(path, metadata, signers) {
  for (const name of signers) metadata.sign(keyOf(name).signer)
  const text = JSON.stringify(metadata.toJSON(), null, 2) + '\n'
  writeFileSync(`${repository}/trust/${path}`, text)
  return text
}

function makeRoot(which) {
  const root = new Root({ ...common, version: which, consistentSnapshot: true })
  for (const [role, threshold] of Object.entries(thresholds)) root.roles[role].threshold = threshold
  for (const [role, list] of Object.entries(names(which))) for (const name of list) root.addKey(keyOf(name).key, role)
  write(`${which}.root.json`, new Metadata(root), which === 1 ? ['root-a'] : ['root-a', 'root-b'])
}
for (let which = 1; which <= rootVersion; which++) if (!existsSync(`${repository}/trust/${which}.root.json`)) makeRoot(which)

const files = {}
for (const name of readdirSync(`${repository}/index`)) {
  if (/^[0-9a-f]{64}\./.test(name)) continue
  const bytes = readFileSync(`${repository}/index/${name}`), digest = sha256(bytes)
  files[`index/${name}`] = new TargetFile({ path: `index/${name}`, length: bytes.length, hashes: { sha256: digest } })
  copyFileSync(`${repository}/index/${name}`, `${repository}/index/${digest}.${name}`)
}
const fileOf = (text) => new MetaFile(plain ? { version } : { version, length: Buffer.byteLength(text), hashes: { sha256: sha256(text) } })
const role = names(rootVersion)
const targets = write(`${version}.targets.json`, new Metadata(new Targets({ ...common, targets: files })), ['targets-b', 'targets-c'])
const snapshot = write(`${version}.snapshot.json`, new Metadata(new Snapshot({ ...common, meta: { 'targets.json': fileOf(targets) } })), role.snapshot)
write('timestamp.json', new Metadata(new Timestamp({ ...common, snapshotMeta: fileOf(snapshot) })), role.timestamp)
console.log(sha256(canonicalize(JSON.parse(readFileSync(`${repository}/trust/1.root.json`)).signed)))
