/** Calls to the API: JSON in and out, the page's token sent along, refusals as one shape of error. */
import type { Brought, BroughtStudy, JobView, StudyView } from './types'

export class Refusal extends Error {
  /** `job`: where others changed the job meanwhile, the job as it is now. */
  constructor(
    public status: number,
    public code: string,
    message: string,
    public field: string | null,
    public job: JobView | null = null,
  ) {
    super(message)
  }
}

const token = () => document.cookie.match(/csrftoken=([^;]+)/)?.[1] ?? ''

async function refuse(r: Response): Promise<never> {
  let body: { code?: string; message?: string; field?: string | null; job?: JobView } = {}
  try {
    body = await r.json()
  } catch {
    /* not JSON: say what the status says */
  }
  throw new Refusal(
    r.status,
    body.code ?? 'http',
    body.message ?? `The server answered ${r.status}. Try again.`,
    body.field ?? null,
    body.job ?? null,
  )
}

const BUSY = 503
const TRIES = 6

/**
 * A request that is asked again, a little later each time, while the server is at work on others (nothing
 * was changed then).
 */
async function asked(url: string, init?: RequestInit, tries = TRIES): Promise<Response> {
  for (let k = 1; ; k++) {
    const r = await fetch(url, init)
    if (
      r.status !== BUSY ||
      k === tries ||
      (
        await r
          .clone()
          .json()
          .catch(() => ({}))
      ).code !== 'busy'
    )
      return r
    await pause(400 * Math.min(k, TRIES), init?.signal ?? undefined)
  }
}

/** `revision`: of the job that the change was asked of. */
export async function call<T>(
  method: string,
  path: string,
  body?: unknown,
  signal?: AbortSignal,
  revision?: number,
): Promise<T> {
  let r: Response
  try {
    r = await asked('/api' + path, {
      method,
      signal,
      headers: {
        'X-CSRFToken': token(),
        ...(revision === undefined ? {} : { 'If-Match': `"${revision}"` }),
        ...(body === undefined ? {} : { 'Content-Type': 'application/json' }),
      },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch (e) {
    if ((e as Error).name === 'AbortError') throw e
    throw new Refusal(
      0,
      'offline',
      'The server does not answer. Is it still running? What was laid is kept.',
      null,
    )
  }
  if (!r.ok) await refuse(r)
  return (await r.json()) as T
}

const PATIENT = 40 // tries while a large file is written

/** Have a file written by the server and hand it to the browser under a name. */
export async function save(url: string, name: string): Promise<void> {
  const r = await asked(url, undefined, PATIENT)
  if (!r.ok) await refuse(r)
  const at = URL.createObjectURL(await r.blob())
  const a = document.createElement('a')
  Object.assign(a, { href: at, download: name })
  a.click()
  window.setTimeout(() => URL.revokeObjectURL(at), 60_000)
}

const pause = (ms: number, signal?: AbortSignal) =>
  new Promise<void>((resolve, reject) => {
    const t = window.setTimeout(resolve, ms)
    signal?.addEventListener(
      'abort',
      () => {
        window.clearTimeout(t)
        reject(new DOMException('stopped', 'AbortError'))
      },
      { once: true },
    )
  })

/** Start a study and follow it to its result; leaving it (abort) stops it on the server too. */
export async function study<T>(
  job: number,
  path: string,
  body: unknown,
  told: (progress: number, message: string) => void,
  signal: AbortSignal,
): Promise<T> {
  let at = await call<StudyView>('POST', `/jobs/${job}${path}`, body, signal)
  const leave = () => {
    if (!at.done) call('DELETE', `/jobs/${job}/studies/${at.study}`).catch(() => {})
  }
  signal.addEventListener('abort', leave, { once: true })
  while (!at.done) {
    told(at.progress, at.message)
    await pause(60, signal)
    at = await call<StudyView>('GET', `/jobs/${job}/studies/${at.study}`, undefined, signal)
  }
  signal.removeEventListener('abort', leave)
  return at.result as T
}

/** Send a file with progress 0…1, and wait until it is read. */
export async function send(file: File, progress: (share: number) => void): Promise<Brought> {
  let said = await sent<Brought | BroughtStudy>('/uploads', file, progress)
  while ('study' in said) {
    await pause(250)
    said = await call<Brought | BroughtStudy>('GET', `/uploads/${said.study}`)
  }
  return said
}

/** Send a file to an address with progress 0…1; what is answered. */
export function sent<T>(path: string, file: File, progress: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const x = new XMLHttpRequest()
    x.open('POST', `/api${path}`)
    x.setRequestHeader('X-CSRFToken', token())
    x.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1))
    x.onerror = () =>
      reject(new Refusal(0, 'offline', 'The server does not answer. Is it still running?', null))
    x.onload = () => {
      let body: { code?: string; message?: string; field?: string | null } = {}
      try {
        body = JSON.parse(x.responseText || '{}')
      } catch {
        /* not JSON: say what the status says */
      }
      if (x.status < 300) resolve(body as T)
      else
        reject(
          new Refusal(
            x.status,
            body.code ?? 'http',
            body.message ?? `The server answered ${x.status}.`,
            body.field ?? null,
          ),
        )
    }
    const form = new FormData()
    form.append('file', file)
    x.send(form)
  })
}

type Packed = Float32Array | Uint32Array | Int32Array | Uint8Array
export type Buffers = { header: Record<string, unknown>; arrays: Record<string, Packed> }
type Entry = { dtype: string; count: number; offset: number }

const ARRAYS: Record<string, new (data: ArrayBuffer, offset: number, count: number) => Packed> = {
  float32: Float32Array,
  uint32: Uint32Array,
  int32: Int32Array,
  uint8: Uint8Array,
}
const kept = new Map<string, Promise<Buffers>>()

/** A geometry buffer; the same address is fetched once. */
export function geometry(
  job: number,
  key: string,
  what: string,
  scan?: string,
  name?: string,
): Promise<Buffers> {
  const url = `/api/jobs/${job}/geometry/${key}/${what}${scan ? `?scan=${scan}` : ''}${name ? `&name=${name}` : ''}`
  let found = kept.get(url)
  if (!found) {
    found = asked(url).then(async (r) => {
      if (!r.ok) await refuse(r)
      const data = await r.arrayBuffer()
      const length = new DataView(data).getUint32(0, true)
      const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length)))
      const arrays: Buffers['arrays'] = {}
      for (const [name, a] of Object.entries(header.arrays as Record<string, Entry>))
        arrays[name] = new ARRAYS[a.dtype](data, 4 + length + a.offset, a.count)
      return { header, arrays }
    })
    found.catch(() => kept.delete(url))
    kept.set(url, found)
    if (kept.size > 48) kept.delete(kept.keys().next().value!)
  }
  return found
}

export const floats = (base64: string) =>
  new Float32Array(Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)).buffer)
export const numbers = (base64: string) =>
  new Uint32Array(Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)).buffer)
