// read.mjs STATE URL TARGET [refused] - reads a repository with the other implementation's client, from the state that
// it kept last time (STATE/root.json to begin with), and fetches TARGET by its digest into STATE/target.
import { createHash } from 'node:crypto'
import { copyFileSync, mkdirSync, readFileSync, readdirSync } from 'node:fs'
import { Updater } from 'tuf-js'

const [state, url, target, refused] = process.argv.slice(2)
mkdirSync(`${state}/targets`, { recursive: true })
const updater = new Updater({
  metadataDir: state,
  metadataBaseUrl: `${url}/trust`,
  targetDir: `${state}/targets`,
  targetBaseUrl: url,
  config: { fetchRetry: 0, fetchRetries: 0 },
})
try {
  await updater.refresh()
} catch (problem) {
  console.log(`  it refuses: ${problem.message}`)
  process.exit(refused ? 0 : 1)
}
if (refused) {
  console.log('  it takes what it should have refused')
  process.exit(1)
}
const info = await updater.getTargetInfo(target)
if (!info) throw new Error(`there is no target ${target}`)
const file = await updater.downloadTarget(info)
copyFileSync(file, `${state}/target`)
const root = JSON.parse(readFileSync(`${state}/root.json`))
const digest = createHash('sha256').update(readFileSync(file)).digest('hex')
console.log(`  it reads root ${root.signed.version}, timestamp ${JSON.parse(readFileSync(`${state}/timestamp.json`)).signed.version}: ${target}, ${info.length} bytes, ${digest.slice(0, 16)}`)
