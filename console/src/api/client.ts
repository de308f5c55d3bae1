// One request to the service, typed by the API's own document.
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** What the service answers when something is wrong (RFC 9457). Status 0: it was not reached at all. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly faults: Schemas['ZonefileFault'][] = [],
    readonly findings: Schemas['FindingFinding'][] = [],
  ) {
    super(detail)
  }
}

type Method = 'get' | 'post' | 'put' | 'delete'
type Json<T> = T extends { content: { 'application/json': infer Body } } ? Body : undefined
type Operation<P extends keyof paths, M extends Method> = NonNullable<paths[P][M]>
type Answer<O> = O extends { responses: infer R } ? Json<R[keyof R & (200 | 201 | 202)]> : never
type Sent<O> = O extends { requestBody: { content: { 'application/json': infer Body } } } ? Body : undefined
type Params = Record<string, string | number | boolean | undefined>

/** A path with its {parameters} filled in; what the path does not name goes into the query. */
function address(path: string, params: Params): string {
  const query = new URLSearchParams()
  for (const [name, value] of Object.entries(params)) {
    if (path.includes(`{${name}}`)) path = path.replace(`{${name}}`, encodeURIComponent(String(value)))
    else if (value !== undefined && value !== '') query.set(name, String(value))
  }
  const text = query.toString()
  return `/api/v1${path}${text && '?' + text}`
}

/** How long an answer may take: a check or a change at a registrar asks many servers. */
const patience = 60_000

async function request<T>(method: Method, path: string, params: Params, body?: unknown, signal?: AbortSignal, tag?: string): Promise<T> {
  const limit = AbortSignal.timeout(patience)
  let res: Response
  try {
    res = await fetch(address(path, params), {
      method: method.toUpperCase(),
      headers: { ...(body !== undefined && { 'Content-Type': 'application/json' }), ...(tag !== undefined && { 'If-Match': `"${tag}"` }) },
      body: body === undefined ? undefined : JSON.stringify(body),
      signal: signal ? AbortSignal.any([signal, limit]) : limit,
    })
  } catch (error) {
    if (signal?.aborted) throw error
    throw new Problem(0, 'No connection', 'The service does not answer. Is it running, and is this machine connected?')
  }
  const text = await res.text()
  if (res.ok) return (text ? JSON.parse(text) : undefined) as T
  let p: Partial<Schemas['ProblemDocument']> = {}
  try {
    p = JSON.parse(text)
  } catch {
    // not ours: something in between answered
  }
  throw new Problem(res.status, p.title ?? res.statusText, p.detail ?? `The service answered ${res.status}.`, p.faults, p.findings)
}

export function get<P extends keyof paths>(path: P, params: Params = {}, signal?: AbortSignal): Promise<Answer<Operation<P, 'get'>>> {
  return request('get', path, params, undefined, signal)
}

/** The tag is that of what was looked at: whatever has changed since is not overwritten. */
export function post<P extends keyof paths>(path: P, params: Params, body: Sent<Operation<P, 'post'>>, tag?: string): Promise<Answer<Operation<P, 'post'>>> {
  return request('post', path, params, body, undefined, tag)
}

export function put<P extends keyof paths>(path: P, params: Params, body: Sent<Operation<P, 'put'>>): Promise<Answer<Operation<P, 'put'>>> {
  return request('put', path, params, body)
}

export function remove<P extends keyof paths>(path: P, params: Params = {}, tag?: string): Promise<undefined> {
  return request('delete', path, params, undefined, undefined, tag)
}
