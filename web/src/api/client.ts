import { say } from '../language'
import type { components } from './schema.gen'

type Schemas = components['schemas']
export type Link = Schemas['Link']
export type Station = Schemas['Station']
export type Point = Schemas['Point']
export type PointEntry = Schemas['PointEntry']
export type Scaling = Schemas['Scaling']
export type Reading = Schemas['Reading']
export type Status = Schemas['Status']
export type LinkStatus = Schemas['LinkStatus']
export type StationStatus = Schemas['StationStatus']
export type Lens = Schemas['Lens']
export type LensRow = Schemas['LensRow']
export type Test = Schemas['Test']
export type AddressMeaning = Schemas['AddressMeaning']
export type WriteResult = Schemas['WriteResult']
export type Quarantined = Schemas['Quarantined']
export type WriteRecord = Schemas['WriteRecord']
export type ChangeRecord = Schemas['Record']
export type ChangeSummary = Schemas['ChangeSummary']
export type LiveMessage = Schemas['LiveMessage']
export type Problem = Schemas['Problem']
export type Faults = Schemas['Faults']
export type LineState = Schemas['LineState']
export type Finding = Schemas['Finding']
export type Watch = Schemas['Watch']
export type FindingStep = Schemas['Step']
export type Drawing = Schemas['Drawing']
export type Template = Schemas['Template']
export type Tied = Schemas['Tied']
export type Difference = Schemas['Difference']
export type SheetOutcome = Schemas['SheetOutcome']
export type Import = Schemas['Import']
export type Mending = Schemas['Mending']
export type Figures = Schemas['Figures']
export type Windows = Schemas['Windows']
export type TrafficFrame = Schemas['TrafficFrame']
export type Recording = Schemas['Recording']
export type Stage = Schemas['Stage']
export type Progress = Schemas['Progress']
export type Held = Schemas['Held']
export type ProfileResult = Schemas['ProfileResult']
export type Board = Schemas['Board']
export type Alarm = Schemas['Alarm']
export type AlarmEntry = Schemas['AlarmEntry']
export type Plot = Schemas['Plot']
export type RecordingState = Schemas['RecordingState']
export type EventRecord = Schemas['EventRecord']
export type Protocol = Schemas['Protocol']
export type Me = Schemas['Me']
export type Account = Schemas['Account']
export type Token = Schemas['Token']
export type MadeToken = Schemas['MadeToken']
export type Session = Schemas['Session']
export type AuditEntry = Schemas['AuditEntry']
export type AuditVerdict = Schemas['AuditVerdict']
export type Factor = Schemas['Factor']
export type ChangeSet = Schemas['ChangeSet']
export type EntityDifference = Schemas['EntityDifference']
export type Comparison = Schemas['Comparison']
export type Version = Schemas['Version']
export type Proposal = Schemas['Proposal']
export type ServiceConflict = Schemas['Conflict']
export type Note = Schemas['Note']
export type Person = Schemas['Person']
export type TogetherMessage = Schemas['TogetherMessage']

/** What the service said when it did not do as asked. */
export class ApiProblem extends Error {
  constructor(readonly problem: Problem) {
    const lines = (problem.errors ?? []).map((e) => [e.field, e.message].filter(Boolean).join(': '))
    super(lines.length > 0 ? lines.join('\n') : problem.detail)
  }

  /** Whether an entity has another version than the one that was to be changed. */
  get stale(): boolean {
    return this.problem.status === 412
  }

  /** The messages by field, for a form. */
  get fields(): Record<string, string> {
    const fields: Record<string, string> = {}
    for (const e of this.problem.errors ?? []) {
      const field = e.field.split('.')[0] ?? ''
      const message = e.field === field ? e.message : `${e.field}: ${e.message}`
      fields[field] = fields[field] ? `${fields[field]}; ${message}` : message
    }
    return fields
  }
}

export type Query = Record<string, string | string[] | number | boolean | undefined>

function search(query: Query): string {
  const params = new URLSearchParams()
  for (const [name, value] of Object.entries(query)) {
    for (const v of Array.isArray(value) ? value : [value]) {
      if (v !== undefined && v !== '') params.append(name, String(v))
    }
  }
  return params.size > 0 ? `?${params}` : ''
}

/** A file, octet by octet, as what it is: the browser goes by the end of its name. */
const as = (type: string, file: string | Blob) => new Blob([file], { type })

async function call<T>(method: string, path: string, query: Query = {}, body?: unknown, beside?: Beside): Promise<T> {
  return (await exchange<T>(method, path, query, body, undefined, beside)).answer
}

/** What is said of a change: kept with it, or the title of a proposal that it becomes instead. */
export interface Beside {
  message?: string
  propose?: string
}

/** When a hand was last on this page. A page that only asks by itself keeps no session. */
let touched = Date.now()
/** Follows the hands on this page. */
export function followHands() {
  for (const event of ['pointerdown', 'keydown', 'wheel', 'touchstart']) window.addEventListener(event, () => (touched = Date.now()), { passive: true, capture: true })
}
const handOff = 60_000

/** The headers of every request. */
function headers(version?: string, beside: Beside = {}): Record<string, string> {
  const list: Record<string, string> = { 'Arithmon-Who': 'console' }
  if (version) list['If-Match'] = version
  if (Date.now() - touched > handOff) list['Arithmon-Unattended'] = '1'
  if (beside.message) list['Arithmon-Message'] = encodeURIComponent(beside.message)
  if (beside.propose) list['Arithmon-Propose'] = encodeURIComponent(beside.propose)
  return list
}

let signedOut = () => {}
/** Is called when the service does not know who asks, or not any more. */
export function onSignedOut(f: () => void) {
  signedOut = f
}

/** Makes a request, of an entity in a version when one is given, and returns the version of what is answered, too. */
async function exchange<T>(method: string, path: string, query: Query = {}, body?: unknown, version?: string, beside?: Beside): Promise<{ answer: T; version: string }> {
  let response: Response
  try {
    response = await fetch(`${path}${search(query)}`, {
      method,
      headers: headers(version, beside),
      body: body === undefined ? undefined : typeof body === 'string' || body instanceof Blob ? body : JSON.stringify(body),
    })
  } catch {
    throw new Error(say('common.no-answer'))
  }
  const text = await response.text()
  if (!response.ok) {
    let problem: Problem
    try {
      problem = JSON.parse(text) as Problem
    } catch {
      throw new Error(say('common.answers', { what: `${response.status} ${response.statusText}` }))
    }
    if (response.status === 401 && !path.startsWith('/api/v1/sign-in')) signedOut()
    throw new ApiProblem(problem)
  }
  const proposal = response.headers.get('Arithmon-Proposal')
  if (proposal) proposed(Number(proposal))
  const merged = response.headers.get('Arithmon-Merged')
  if (merged) together(decodeURIComponent(merged.replace(/\+/g, ' ')))
  const warning = response.headers.get('Arithmon-Warning')
  if (warning) warned(warning)
  return { answer: (text ? JSON.parse(text) : undefined) as T, version: response.headers.get('ETag') ?? '' }
}

let proposed = (_: number) => {}
/** Takes the number of a proposal that a change became. */
export function onProposed(f: (id: number) => void) {
  proposed = f
}
let together = (_: string) => {}
/** Takes what others changed meanwhile, with which a change was put together. */
export function onMerged(f: (text: string) => void) {
  together = f
}
let warned = (_: string) => {}
/** Takes what the service says about a change that is allowed and yet seldom meant. */
export function onWarning(f: (text: string) => void) {
  warned = f
}

interface Page<E> {
  items: E[]
  next?: string
}

async function all<E>(path: string, query: Query = {}): Promise<E[]> {
  const list: E[] = []
  let cursor: string | undefined
  do {
    const page: Page<E> = await call('GET', path, { ...query, limit: 5000, cursor })
    list.push(...page.items)
    cursor = page.next
  } while (cursor)
  return list
}

export type Kind = 'template' | 'link' | 'station' | 'point' | 'board'
const entity = (kind: Kind, name: string) =>
  `/api/v1/${kind}s/${name.split('/').map(encodeURIComponent).join('/')}`

export const api = {
  links: () => all<Link>('/api/v1/links'),
  stations: () => all<Station>('/api/v1/stations'),
  points: () => all<Point>('/api/v1/points'),
  explanations: () => call<Schemas['Explanations']>('GET', '/api/v1/explanations'),
  readAt: (what: object) => call<Page<Schemas['RawReading']>>('POST', '/api/v1/addresses/read', {}, what).then((page) => page.items),
  pointsLike: (pattern: string, limit: number) => call<Page<Point>>('GET', '/api/v1/points', { tag: pattern, limit }).then((page) => page.items),
  health: () => call<Schemas['Health']>('GET', '/healthz'),
  point: (tag: string) => call<Point>('GET', entity('point', tag)),
  ports: () => call<Schemas['Ports']>('GET', '/api/v1/ports'),
  status: () => call<Status>('GET', '/api/v1/status'),
  add: <T>(kind: Kind, fields: object, beside?: Beside) => call<T>('POST', `/api/v1/${kind}s`, {}, fields, beside),
  get: <T>(kind: Kind, name: string) => exchange<T>('GET', entity(kind, name)),
  set: <T>(kind: Kind, name: string, fields: object, version?: string, beside?: Beside) =>
    exchange<T>('PATCH', entity(kind, name), {}, fields, version, beside).then((e) => e.answer),
  remove: (kind: Kind, name: string, cascade = false, beside?: Beside) =>
    call<ChangeSummary>('DELETE', entity(kind, name), { cascade: cascade || undefined }, undefined, beside),
  test: (kind: 'link' | 'station', name: string) => call<Test>('POST', `${entity(kind, name)}/test`),
  copy: (kind: 'link' | 'station', name: string, fields: object) => call<unknown>('POST', `${entity(kind, name)}/copy`, {}, fields),
  refresh: (station: string) => call<unknown>('POST', `${entity('station', station)}/refresh`),
  protocols: () => call<Schemas['Protocols']>('GET', '/api/v1/protocols'),
  ask: (station: string, action: string) => call<Schemas['ActionResult']>('POST', `${entity('station', station)}/ask`, {}, { action }),
  profile: (station: string, file: Blob, name: string, prefix: string, dryRun: boolean) =>
    call<ProfileResult>('POST', `${entity('station', station)}/profile`, { file: name, prefix, dry_run: dryRun }, as('application/xml', file)),
  events: (query: Query) => call<Schemas['EventPage']>('GET', '/api/v1/events', query),
  boards: () => all<Board>('/api/v1/boards'),
  copyBoard: (name: string, fields: object) => call<Board>('POST', `${entity('board', name)}/copy`, {}, fields),
  makeBoard: (station: string) => call<Board>('POST', `${entity('station', station)}/board`, {}, {}),
  alarms: (query: Query) => call<Schemas['Alarms']>('GET', '/api/v1/alarms', query),
  alarmHistory: (query: Query) => call<Page<AlarmEntry>>('GET', '/api/v1/alarms/history', query).then((page) => page.items),
  alarmDeed: (deed: 'acknowledge' | 'shelve' | 'unshelve', what: object) => call<Schemas['AlarmsDone']>('POST', `/api/v1/alarms/${deed}`, {}, what),
  plot: (query: Query) => call<Plot>('GET', '/api/v1/history/plot', query),
  recordingState: () => call<RecordingState>('GET', '/api/v1/history/recording'),
  writesOf: (tag: string) => call<Page<WriteRecord>>('GET', '/api/v1/writes', { tag, limit: 200 }).then((page) => page.items),
  branches: () => call<Schemas['Branches']>('GET', '/api/v1/branches'),
  findings: (subject?: string) => call<Schemas['Findings']>('GET', '/api/v1/findings', { subject }),
  take: (code: string, subject: string, step: number) => call<Schemas['Taken']>('POST', '/api/v1/findings/take', {}, { code, subject, step }),
  resetFigures: () => call<unknown>('POST', '/api/v1/figures/reset'),
  traffic: (query: Query) => call<Schemas['TrafficPage']>('GET', '/api/v1/traffic', query),
  recording: () => call<Recording>('GET', '/api/v1/traffic/recording'),
  record: (link: string, limit: number) => call<Recording>('POST', '/api/v1/traffic/recording', {}, { link: link || undefined, limit_mb: limit }),
  stopRecording: () => call<Recording>('DELETE', '/api/v1/traffic/recording'),
  me: () => call<Me>('GET', '/api/v1/me'),
  signIn: (what: object) => call<Me>('POST', '/api/v1/sign-in', {}, what),
  signOut: () => call<unknown>('POST', '/api/v1/sign-out'),
  ownPassword: (what: object) => call<unknown>('PUT', '/api/v1/me/password', {}, what),
  ownFactor: (what: object) => call<Factor>('PUT', '/api/v1/me/factor', {}, what),
  accounts: () => all<Account>('/api/v1/accounts'),
  addAccount: (what: object) => call<Account>('POST', '/api/v1/accounts', {}, what),
  setAccount: (name: string, what: object) => call<Account>('PATCH', `/api/v1/accounts/${encodeURIComponent(name)}`, {}, what),
  removeAccount: (name: string) => call<unknown>('DELETE', `/api/v1/accounts/${encodeURIComponent(name)}`),
  tokens: () => all<Token>('/api/v1/tokens'),
  addToken: (what: object) => call<MadeToken>('POST', '/api/v1/tokens', {}, what),
  removeToken: (name: string) => call<unknown>('DELETE', `/api/v1/tokens/${encodeURIComponent(name)}`),
  sessions: () => all<Session>('/api/v1/sessions'),
  endSession: (id: number) => call<unknown>('DELETE', `/api/v1/sessions/${id}`),
  audit: (query: Query) => call<Page<AuditEntry>>('GET', '/api/v1/audit', query),
  verifyAudit: () => call<AuditVerdict>('GET', '/api/v1/audit/verify'),
  changeSet: (id: number) => call<ChangeSet>('GET', `/api/v1/changes/${id}`),
  changesOf: (kind: Kind, name: string, limit: number) => call<Page<ChangeRecord>>('GET', '/api/v1/changes', { kind, name, limit }).then((page) => page.items),
  diff: (from: string, to: string, only?: string[]) => call<Comparison>('GET', '/api/v1/diff', { from, to, only, limit: 2000 }),
  versions: () => all<Version>('/api/v1/versions'),
  addVersion: (what: object) => call<Version>('POST', '/api/v1/versions', {}, what),
  restore: (what: object) => call<ChangeSummary>('POST', '/api/v1/restore', {}, what),
  proposals: (state: string) => all<Proposal>('/api/v1/proposals', { state }),
  proposal: (id: number) => call<Proposal>('GET', `/api/v1/proposals/${id}`),
  comment: (id: number, text: string) => call<Proposal>('POST', `/api/v1/proposals/${id}/comments`, {}, { text }),
  takeProposal: (id: number, what: object) => call<ChangeSummary>('POST', `/api/v1/proposals/${id}/take`, {}, what),
  dropProposal: (id: number) => call<Proposal>('POST', `/api/v1/proposals/${id}/drop`),
  notes: (query: Query) => all<Note>('/api/v1/notes', query),
  addNote: (kind: Kind, name: string, text: string) => call<Note>('POST', '/api/v1/notes', {}, { kind, name, text }),
  closeNote: (id: number, done: boolean) => call<Note>('PATCH', `/api/v1/notes/${id}`, {}, { done }),
  rig: () => call<Schemas['RigState']>('GET', '/api/v1/rig'),
  setFaults: (line: string, unit: number, faults: object) => call<Faults>('PATCH', `/api/v1/rig/${encodeURIComponent(line)}/${unit}`, {}, faults),
  cutLine: (line: string, cut: boolean) => call<Schemas['RigState']>('POST', `/api/v1/rig/${encodeURIComponent(line)}/${cut ? 'cut' : 'restore'}`),
  address: (text: string, station: string, table: string) =>
    call<AddressMeaning>('GET', '/api/v1/address', { text, station, table }),
  lens: (tag: string) => call<Lens>('GET', '/api/v1/lens', { tag }),
  write: (tag: string, value: unknown) => call<WriteResult>('POST', '/api/v1/write', {}, { tag, value }),
  changes: (cursor?: string) => call<Page<ChangeRecord>>('GET', '/api/v1/changes', { limit: 200, cursor }),
  quarantine: () => call<Page<Quarantined>>('GET', '/api/v1/quarantine'),
  undo: (id: number) => call<ChangeSummary>('POST', `/api/v1/changes/${id}/undo`),
  writes: (cursor?: string) => call<Page<WriteRecord>>('GET', '/api/v1/writes', { limit: 200, cursor }),
  changePoints: (what: object) => call<ChangeSummary>('POST', '/api/v1/change/points', {}, what),
  importPoints: (list: string | Blob, query: Query) => call<Schemas['Import']>('POST', '/api/v1/import/points', query, list),
  templates: () => all<Template>('/api/v1/templates'),
  tied: (template: string) => all<Tied>(`${entity('template', template)}/stations`),
  own: (station: string) => all<Difference>(`${entity('station', station)}/own`),
  conform: (station: string, what: object) => call<ChangeSummary>('POST', `${entity('station', station)}/conform`, {}, what),
  makeTemplate: (station: string, what: object) => call<Template>('POST', `${entity('station', station)}/template`, {}, what),
  templateURL: (pattern: string) => `/api/v1/export${search({ template: pattern })}`,
  templateFile: (name: string) =>
    fetch(`/api/v1/export${search({ template: name })}`).then(async (r) => {
      if (!r.ok) throw new Error(say('common.answers', { what: `${r.status} ${r.statusText}` }))
      return r.text()
    }),
  applyTemplates: (file: string, name: string, dryRun: boolean) => call<ChangeSummary>('POST', '/api/v1/apply', { templates: true, dry_run: dryRun, file: name }, file),
  importStations: (list: string | Blob, query: Query) => call<Schemas['Import']>('POST', '/api/v1/import/stations', query, list),
  sheet: (skip: number, limit?: number) => call<string[][]>('GET', '/api/v1/export/points', { form: 'json', skip, limit }),
  changeSheet: (what: object, beside?: Beside) => call<SheetOutcome>('POST', '/api/v1/change/sheet', {}, what, beside),
  columnSets: () => call<Page<Schemas['ColumnSet']>>('GET', '/api/v1/columns').then((page) => page.items),
  keepColumns: (name: string, columns: Record<string, string>) => call<unknown>('PUT', `/api/v1/columns/${encodeURIComponent(name)}`, {}, { columns }),
  markedPoints: (list: string | Blob, query: Query) =>
    fetch(`/api/v1/import/points/marked${search(query)}`, { method: 'POST', headers: headers(), body: list }).then((r) => {
      if (!r.ok) throw new Error(say('common.answers', { what: `${r.status} ${r.statusText}` }))
      return r.blob()
    }),
  exportPoints: (form: 'csv' | 'xlsx', tags: string[]) => `/api/v1/export/points${search({ form, tag: tags })}`,
  apply: (file: string | Blob, name: string, dryRun: boolean) =>
    call<ChangeSummary>('POST', '/api/v1/apply', { dry_run: dryRun, file: name }, as('application/yaml', file)),
}

/** Follows a response that comes as lines of JSON; stop ends it. */
export async function follow<T>(path: string, body: object, seen: (line: T) => void, stop: AbortSignal): Promise<void> {
  const response = await fetch(path, { method: 'POST', headers: headers(), body: JSON.stringify(body), signal: stop })
  if (!response.ok || !response.body) throw new ApiProblem((await response.json()) as Problem)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    rest += value
    const lines = rest.split('\n')
    rest = lines.pop() ?? ''
    for (const line of lines) if (line) seen(JSON.parse(line) as T)
  }
}

/** The address of the frames that are kept, as a capture. */
export function captureURL(query: Query): string {
  return `/api/v1/traffic/capture${search(query)}`
}

export const exportURL = '/api/v1/export'
export const backupURL = '/api/v1/backup'

/** What to tell a person about an error. */
export function message(error: unknown): string {
  return error instanceof Error ? error.message : String(error)
}
