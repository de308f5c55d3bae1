// The steps of the tour, by a client that knows the API from its OpenAPI document alone: paths, parameters, bodies and answers have
// the types that are generated from it, so that a step that does not fit the document is not compiled.
//
// usage: node tour.js URL PASSWORD ZONE-FILE DEFINITION-FILE
import { readFileSync } from 'node:fs'
import createClient from 'openapi-fetch'
import type { paths } from '../src/api/schema'

const [url, password, zoneFile, definitionFile] = process.argv.slice(2) as [string, string, string, string]
const zone = 'saltmarsh-ferries.example'
const name = zone
const base = `${url}/api/v1`

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** must returns the data of an answer, or ends the tour. */
async function must<T>(step: string, asked: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await asked
  if (error !== undefined || !response.ok) throw new Error(`${step}: ${response.status} ${JSON.stringify(error)}`)
  console.log(`${step}: ${response.status}`)
  return data as T
}

/** until asks again until the answer is as wanted. */
async function until<T>(step: string, ask: () => Promise<Answer<T>>, wanted: (data: T) => boolean): Promise<T> {
  for (let tries = 0; tries < 300; tries++) {
    const { data } = await ask()
    if (data !== undefined && wanted(data)) {
      console.log(`${step}: as wanted`)
      return data
    }
    await new Promise((wake) => setTimeout(wake, 200))
  }
  throw new Error(`${step}: never as wanted`)
}

const signedIn = await must('sign in', createClient<paths>({ baseUrl: base }).POST('/sessions', { body: { name: 'admin', password } }))
const api = createClient<paths>({ baseUrl: base, headers: { Authorization: `Bearer ${signedIn.token}` } })

const held = await must('domains at the registrar', api.GET('/accounts/{name}/registrations', { params: { path: { name: 'gannet-main' } } }))
if (!held.items.some((d) => d.name === `${zone}.`)) throw new Error(`the registrar does not hold ${zone}: ${held.items.map((d) => d.name).join(', ')}`)
await must('first check', api.POST('/domains/{name}/checks', { params: { path: { name } } }))

const key = { header: { 'Idempotency-Key': 'tour-import' } }
const text = readFileSync(zoneFile, 'utf8')
const imported = await must('import', api.POST('/zones/{name}/imports', { params: { path: { name }, ...key }, body: { file: 'saltmarsh-ferries.zone', text } }))
const again = await must('import sent again', api.POST('/zones/{name}/imports', { params: { path: { name }, ...key }, body: { file: 'saltmarsh-ferries.zone', text } }))
if (again.revision?.number !== imported.revision?.number) throw new Error('the import was carried out twice')

const files = [{ name: 'saltmarsh-ferries.beacon.yaml', text: readFileSync(definitionFile, 'utf8') }]
const applied = await must('apply', api.POST('/definitions', { body: { files, sync: true, reason: 'move to Heron' } }))
if (!applied.items.some((z) => z.zone === `${zone}.`)) throw new Error('the definition names no zone')
await until('sync', () => api.GET('/zones/{name}/syncs', { params: { path: { name } } }), (page) => page.items[0]?.state === 'done')

await must('preview of the delegation', api.POST('/domains/{name}/delegation-preview', { params: { path: { name } }, body: { save_only: true } }))
await must('delegate, saved only', api.POST('/domains/{name}/delegations', { params: { path: { name } }, body: { save_only: true } }))
await until('saved, not active', () => api.POST('/domains/{name}/checks', { params: { path: { name } } }), (r) => r.findings.some((f) => f.code === 'saved-not-active'))
await must('delegate', api.POST('/domains/{name}/delegations', { params: { path: { name } }, body: {} }))
await until('settling', () => api.POST('/domains/{name}/checks', { params: { path: { name } } }), (r) => r.verdict === 'settling')
await until('settled', () => api.POST('/domains/{name}/checks', { params: { path: { name } } }), (r) => r.verdict === 'settled')

const host = await must('dynamic host', api.POST('/hosts', { body: { name: `camera.${zone}`, v4: true } }))
if (!host.token) throw new Error('no token')
const reporter = createClient<paths>({ baseUrl: base, headers: { Authorization: `Bearer ${host.token}` }, fetch: (r) => fetch(r) })
const report = await reporter.GET('/report', { params: { query: { v4: '198.51.100.77' } }, parseAs: 'text' })
if (!String(report.data).startsWith('accepted')) throw new Error(`report: ${String(report.data)}`)
await until('report written', () => api.GET('/hosts/{name}', { params: { path: { name: `camera.${zone}` } } }), (h) => JSON.stringify(h).includes('198.51.100.77'))

const settings = await api.GET('/zones/{name}/settings', { params: { path: { name } } })
console.log(`settings: ${settings.response.headers.get('ETag')}`)
const found = await must('search', api.GET('/records', { params: { query: { value: '192.0.2.40' } } }))
if (found.items.length === 0) throw new Error('the search found nothing')
const book = await must('logbook', api.GET('/logbook', { params: { query: { limit: '20' } } }))
if (!book.items.some((e) => e.action === 'host.added')) throw new Error('the logbook does not have the host')
console.log('every step held')
