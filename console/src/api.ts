import type { components } from './api.gen'
import { save } from './parts/save'

type Schemas = components['schemas']
export type Bay = Schemas['Bay']
export type Cover = Schemas['Cover']
export type Held = Schemas['Held']
export type Spot = Schemas['Spot']
export type Run = Schemas['Run']
export type RunSummary = Schemas['RunSummary']
export type Figure = Schemas['Figure']
export type PlayedCurve = Schemas['PlayedCurve']
export type Point = Schemas['Point']
export type Mark = Schemas['Mark']
export type Window = Schemas['Window']
export type Statistic = Schemas['Statistic']
export type Makeup = Schemas['Makeup']
export type Capture = Schemas['Capture']
export type CaptureWindow = Schemas['CaptureWindow']
export type Frames = Schemas['Frames']
export type Account = Schemas['Account']
export type Procedure = Schemas['Procedure']
export type Problem = Schemas['Problem']
export type Health = Schemas['Health']
export type StartRun = Schemas['StartRun']
export type MarkEvent = Schemas['MarkEvent']
export type Catalogue = Schemas['Catalogue']
export type FirstStep = Schemas['FirstStep']
export type Instrument = Schemas['Instrument']
export type InstrumentConfig = Schemas['InstrumentConfig']
export type BenchConfig = Schemas['BenchConfig']
export type BayConfig = Schemas['BayConfig']
export type SeatConfig = Schemas['SeatConfig']
export type Dialect = Schemas['Dialect']
export type Found = Schemas['Found']
export type Exchange = Schemas['Exchange']
export type Control = Schemas['Control']
export type Preflight = Schemas['Preflight']
export type PreflightFinding = Schemas['PreflightFinding']
export type TakenOver = Schemas['TakenOver']
export type PointEvent = Schemas['PointEvent']
export type Finding = Schemas['Finding']
export type Outline = Schemas['Outline']
export type OutlineStage = Schemas['OutlineStage']
export type OutlineTrack = Schemas['OutlineTrack']
export type Rehearsal = Schemas['Rehearsal']
export type RunRehearsal = Schemas['RunRehearsal']
export type Difference = Schemas['Difference']
export type Intervention = Schemas['Intervention']
export type Excerpt = Schemas['Excerpt']
export type ExcerptRequest = Schemas['ExcerptRequest']
export type Excursion = Schemas['Excursion']
export type Attachment = Schemas['Attachment']
export type ThermalScale = Schemas['ThermalScale']
export type Judgement = Schemas['Judgement']
export type Waiting = Schemas['Waiting']
export type Office = Schemas['Office']
export type OutboxMessage = Schemas['OutboxMessage']
export type Token = Schemas['Token']
export type JournalEntry = Schemas['JournalEntry']
export type Prompt = Schemas['Prompt']
export type Place = Schemas['Place']
export type PlaceSetup = Schemas['PlaceSetup']
export type UnitVerdict = Schemas['UnitVerdict']
export type Lot = Schemas['Lot']
export type LotSummary = Schemas['LotSummary']
export type LotProcedure = Schemas['LotProcedure']
export type LotFigure = Schemas['LotFigure']
export type LotOrder = Schemas['LotOrder']
export type LotDifference = Schemas['LotDifference']
export type Tally = Schemas['Tally']
export type Unit = Schemas['Unit']
export type UnitChange = Schemas['UnitChange']
export type Overlay = Schemas['Overlay']
export type OverlayPair = Schemas['OverlayPair']
export type OverlaySide = Schemas['OverlaySide']
export type OverlayRequest = Schemas['OverlayRequest']
export type Matching = Schemas['Matching']
export type Nameplate = Schemas['Nameplate']
export type NameplateOutline = Schemas['NameplateOutline']
export type Mapping = Schemas['Mapping']
export type LogLook = Schemas['LogLook']
export type ImportLog = Schemas['ImportLog']
export type FigureTable = Schemas['FigureTable']
export interface SignalEvent {
  bay: string
  run: string
  message: string
  sound: boolean
  t: number
}

// Attaching says what a file is that is joined to a run: to which instant it belongs, or when it was taken; with
// neither it is now, or the end of a run that has ended.
export interface Attaching {
  t?: number
  taken?: string
  note?: string
  scale?: ThermalScale
}

// ApiError carries a problem document: what happened, why, and what to do.
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super([problem.title, problem.detail].filter(Boolean).join(': '))
  }
  get remedy(): string {
    return this.problem.remedy ?? ''
  }
}

const unreachable: Problem = {
  title: 'The service does not answer',
  status: 0,
  detail: 'it was stopped, or the network is interrupted',
  remedy: 'the console tries again by itself',
}

async function request<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      headers:
        body === undefined
          ? {}
          : { 'Content-Type': body instanceof File ? 'application/octet-stream' : 'application/json' },
      body: body === undefined ? undefined : body instanceof File ? body : JSON.stringify(body),
    })
  } catch {
    throw new ApiError(unreachable)
  }
  if (!response.ok) {
    const problem: Problem = await response
      .json()
      .catch(() => ({ title: response.statusText, status: response.status }))
    throw new ApiError(problem)
  }
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T)
}

// download posts a request and offers what comes back as a file.
async function download(path: string, body: unknown, name: string) {
  let response: Response
  try {
    response = await fetch(path, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify(body),
    })
  } catch {
    throw new ApiError(unreachable)
  }
  if (!response.ok)
    throw new ApiError(await response.json().catch(() => ({ title: response.statusText, status: response.status })))
  const url = URL.createObjectURL(await response.blob())
  save(name, url)
  URL.revokeObjectURL(url)
}

const base = '/api/v1'
const one = (...parts: string[]) => base + parts.map((p) => '/' + encodeURIComponent(p)).join('')

export const api = {
  health: () => request<Health>('GET', '/health'),
  setUp: (code: string, name: string, password: string) =>
    request<Account>('POST', one('setup'), { code, name, password }),
  signIn: (name: string, password: string) => request<Account>('POST', one('sign-in'), { name, password }),
  signOut: () => request<void>('POST', one('sign-out')),
  me: () => request<Account>('GET', one('me')),
  bays: () => request<Bay[]>('GET', one('bays')),
  stop: (bay: string) => request<Bay>('POST', one('bays', bay, 'stop'), {}),
  makeSafe: (bay: string) => request<Bay>('POST', one('bays', bay, 'safe'), {}),
  stopAll: () => request<Bay[]>('POST', one('stop-all'), {}),
  goOn: (seen: string) => request<Bay[]>('POST', one('go-on') + '?' + new URLSearchParams({ seen })),
  goOnBay: (bay: string, seen: string) =>
    request<Bay>('POST', one('bays', bay, 'go-on') + '?' + new URLSearchParams({ seen })),
  looked: (bay: string) => request<Bay>('POST', one('bays', bay, 'looked')),
  stillThere: (bay: string) => request<Bay>('POST', one('bays', bay, 'still-there')),
  set: (bay: string, seat: string, quantity: string, value: string) =>
    request<Bay>('PUT', one('bays', bay, 'setting'), { seat, quantity, value }),
  takeOver: (bay: string) => request<TakenOver>('POST', one('bays', bay, 'take-over')),
  changeSensor: (bay: string, seat: string, quantity: string, change: Schemas['SensorChange']) =>
    request<BenchConfig>('PUT', one('bays', bay, 'sensors', seat, quantity), change),
  instruments: () => request<Instrument[]>('GET', one('instruments')),
  bench: () => request<BenchConfig>('GET', one('bench')),
  putInstrument: (name: string, i: InstrumentConfig) => request<BenchConfig>('PUT', one('instruments', name), i),
  removeInstrument: (name: string) => request<BenchConfig>('DELETE', one('instruments', name)),
  putBay: (name: string, b: BayConfig) => request<BenchConfig>('PUT', one('bays', name), b),
  removeBay: (name: string) => request<BenchConfig>('DELETE', one('bays', name)),
  discover: (where: Schemas['Discovery']) => request<Found[]>('POST', one('discover'), where),
  dialects: () => request<Dialect[]>('GET', one('dialects')),
  dialect: (name: string) => request<Dialect>('GET', one('dialects', name)),
  pushDialect: (text: string) => request<Dialect>('POST', one('dialects'), { text }),
  exchanges: (name: string, limit: number) =>
    request<Exchange[]>('GET', one('instruments', name, 'messages') + `?limit=${limit}`),
  exchangesURL: (name: string) => one('instruments', name, 'messages') + '?format=csv&limit=1000',
  preflight: (start: StartRun) => request<Preflight>('POST', one('preflight'), start),
  catalogue: () => request<Catalogue>('GET', one('catalogue')),
  firstSteps: () => request<FirstStep[]>('GET', one('first-steps')),
  procedures: () => request<Procedure[]>('GET', one('procedures')),
  procedure: (name: string) => request<Procedure>('GET', one('procedures', name)),
  pushProcedure: (text: string, why: string) => request<Procedure>('POST', one('procedures'), { text, why }),
  outline: (draft: Schemas['Draft']) => request<Outline>('POST', one('procedures', 'outline'), draft),
  revisions: (name: string) => request<Procedure[]>('GET', one('procedures', name, 'revisions')),
  difference: (name: string, from: number, to: number) =>
    request<Difference[]>('GET', one('procedures', name, 'difference') + `?from=${from}&to=${to}`),
  ready: () => request<Procedure[]>('GET', one('ready')),
  nameplates: () => request<Schemas['Nameplate'][]>('GET', one('nameplates')),
  nameplate: (name: string) => request<Nameplate>('GET', one('nameplates', name)),
  pushNameplate: (text: string) => request<Nameplate>('POST', one('nameplates'), { text }),
  checkNameplate: (text: string) => request<NameplateOutline>('POST', one('nameplates', 'check'), { text }),
  chemistries: () => request<Schemas['Chemistry'][]>('GET', one('chemistries')),
  queue: () => request<Waiting[]>('GET', one('queue')),
  enqueue: (e: Schemas['Enqueue']) => request<Waiting[]>('POST', one('queue'), e),
  dequeue: (id: number) => request<void>('DELETE', one('queue', String(id))),
  office: () => request<Office>('GET', one('office')),
  setOffice: (o: Office) => request<Office>('PUT', one('office'), o),
  outbox: (waiting: boolean) =>
    request<Schemas['OutboxMessage'][]>('GET', one('outbox') + (waiting ? '?waiting=true' : '')),
  accounts: () => request<Account[]>('GET', one('accounts')),
  addAccount: (a: Schemas['NewAccount']) => request<Account>('POST', one('accounts'), a),
  changeAccount: (name: string, c: Schemas['AccountChange']) => request<Account>('PUT', one('accounts', name), c),
  changePassword: (c: Schemas['PasswordChange']) => request<void>('PUT', one('me', 'password'), c),
  tokens: () => request<Schemas['Token'][]>('GET', one('tokens')),
  revokeToken: (id: string) => request<void>('DELETE', one('tokens', id)),
  journal: (filter: Record<string, string>) =>
    request<Schemas['JournalEntry'][]>('GET', one('journal') + '?' + new URLSearchParams(filter)),
  journalURL: (filter: Record<string, string>) =>
    one('journal') + '?' + new URLSearchParams({ ...filter, limit: '1000', format: 'csv' }),
  releaseProcedure: (name: string, r: Schemas['ReleaseRequest']) =>
    request<Procedure>('PUT', one('procedures', name, 'release'), r),
  lots: () => request<LotSummary[]>('GET', one('lots')),
  lot: (name: string, options: { strict?: boolean; each?: boolean } = {}) => {
    const query = new URLSearchParams()
    if (options.strict) query.set('strict', 'true')
    if (options.each) query.set('each', 'true')
    return request<Lot>('GET', one('lots', name) + '?' + query)
  },
  orderLot: (name: string, order: LotOrder) => request<LotOrder>('PUT', one('lots', name), order),
  unit: (serial: string) => request<Unit>('GET', one('units', serial)),
  changeUnit: (serial: string, change: UnitChange) => request<Unit>('PUT', one('units', serial), change),
  places: () => request<Place[]>('GET', one('places')),
  place: (bay: string) => request<Place>('GET', one('bays', bay, 'place')),
  setUpPlace: (bay: string, setup: PlaceSetup) => request<Place>('PUT', one('bays', bay, 'place'), setup),
  clearPlace: (bay: string) => request<void>('DELETE', one('bays', bay, 'place')),
  scan: (bay: string, serial: string) => request<Place>('POST', one('bays', bay, 'place', 'scan'), { serial }),
  takeBack: (bay: string) => request<Place>('DELETE', one('bays', bay, 'place', 'scan')),
  beginTogether: (bays: string[]) => request<Place[]>('POST', one('places', 'begin'), { bays }),
  beginPlace: (bay: string) => request<Place>('POST', one('bays', bay, 'place', 'begin')),
  release: (id: number) => request<Waiting>('POST', one('queue', String(id), 'release')),
  overlay: (r: OverlayRequest) => request<Overlay>('POST', one('overlays'), r),
  overlayReport: (r: OverlayRequest) => download(one('overlays', 'report'), r, 'overlay.pdf'),
  match: (r: Schemas['MatchRequest']) => request<Matching>('POST', one('matches'), r),
  matchLabels: (r: Schemas['MatchRequest']) => download(one('matches', 'labels'), r, `labels_${r.lot}.pdf`),
  lookAtLog: (l: ImportLog) => request<LogLook>('POST', one('imports', 'look'), l),
  importLog: (l: ImportLog) => request<RunSummary>('POST', one('imports'), l),
  sources: () => request<string[]>('GET', one('imports', 'sources')),
  readTable: (file: File) =>
    request<Schemas['Table']>('POST', one('tables') + '?name=' + encodeURIComponent(file.name), file),
  rehearse: (draft: Schemas['Draft']) => request<Rehearsal>('POST', one('rehearsals'), draft),
  runRehearsal: (run: string) => request<RunRehearsal>('GET', one('runs', run, 'rehearsal')),
  judgements: (run: string) => request<Judgement[]>('GET', one('runs', run, 'judgements')),
  intervene: (bay: string, i: Intervention) => request<Bay>('POST', one('bays', bay, 'intervene'), i),
  startRun: (start: StartRun) => request<RunSummary>('POST', one('runs'), start),
  runs: (filter: Record<string, string>) =>
    request<RunSummary[]>('GET', one('runs') + '?' + new URLSearchParams(filter)),
  run: (id: string) => request<Run>('GET', one('runs', id)),
  window: (run: string, options: { from?: number; to?: number; buckets?: number; columns?: string[] }) => {
    const query = new URLSearchParams()
    if (options.from !== undefined) query.set('from', String(options.from))
    if (options.to !== undefined) query.set('to', String(options.to))
    if (options.columns) query.set('columns', options.columns.join(','))
    query.set('buckets', String(options.buckets ?? 1600))
    return request<Window>('GET', one('runs', run, 'window') + '?' + query)
  },
  statistics: (run: string, from: number, to: number, capture?: number) => {
    const query = new URLSearchParams({ from: String(from), to: String(to) })
    const path =
      capture === undefined
        ? one('runs', run, 'statistics')
        : one('runs', run, 'captures', String(capture), 'statistics')
    return request<Statistic[]>('GET', path + '?' + query)
  },
  captureMakeup: (run: string, capture: number, view?: [number, number]) =>
    request<Makeup[]>(
      'GET',
      one('runs', run, 'captures', String(capture), 'makeup') +
        (view ? '?' + new URLSearchParams({ from: String(view[0]), to: String(view[1]) }) : ''),
    ),
  excursions: (run: string) => request<Excursion[]>('GET', one('runs', run, 'excursions')),
  excerpts: (run: string) => request<Excerpt[]>('GET', one('runs', run, 'excerpts')),
  putExcerpt: (run: string, name: string, e: ExcerptRequest) =>
    request<Excerpt>('PUT', one('runs', run, 'excerpts', name), e),
  dropExcerpt: (run: string, name: string) => request<void>('DELETE', one('runs', run, 'excerpts', name)),
  attachments: (run: string) => request<Attachment[]>('GET', one('runs', run, 'attachments')),
  attach: (run: string, file: File, a: Attaching) => {
    const query = new URLSearchParams({ name: file.name })
    if (a.t !== undefined) query.set('t', String(a.t))
    if (a.taken) query.set('taken', a.taken)
    if (a.note) query.set('note', a.note)
    if (a.scale) {
      query.set('coldest', String(a.scale.coldest))
      query.set('hottest', String(a.scale.hottest))
    }
    return request<Attachment>('POST', one('runs', run, 'attachments') + '?' + query, file)
  },
  dropAttachment: (run: string, number: number, why: string) =>
    request<void>('DELETE', one('runs', run, 'attachments', String(number)) + '?' + new URLSearchParams({ why })),
  attachmentURL: (run: string, number: number, small = false) =>
    one('runs', run, 'attachments', String(number)) + (small ? '?size=small' : ''),
  wiringURL: (run: string) => one('runs', run, 'wiring'),
  connectionURL: (wiring: string) => one('connections', wiring),
  captures: (run: string) => request<Capture[]>('GET', one('runs', run, 'captures')),
  capture: (run: string, index: number, options: { from?: number; to?: number; points: number }) => {
    const query = new URLSearchParams({ points: String(options.points) })
    if (options.from !== undefined) query.set('from', String(options.from))
    if (options.to !== undefined) query.set('to', String(options.to))
    return request<CaptureWindow>('GET', one('runs', run, 'captures', String(index)) + '?' + query)
  },
  captureURL: (run: string, index: number, from?: number, to?: number) => {
    const query = new URLSearchParams()
    if (from !== undefined) query.set('from', String(from))
    if (to !== undefined) query.set('to', String(to))
    return one('runs', run, 'captures', String(index), 'export') + '?' + query
  },
  exportURL: (
    run: string,
    format: 'csv' | 'json' | 'parquet' | 'xlsx',
    from?: number,
    to?: number,
    layout?: 'battery',
  ) => {
    const query = new URLSearchParams({ format })
    if (layout) query.set('layout', layout)
    if (from !== undefined) query.set('from', String(from))
    if (to !== undefined) query.set('to', String(to))
    return one('runs', run, 'export') + '?' + query
  },
  pictureURL: (run: string, picture: string) => one('runs', run, 'pictures', picture),
  reportURL: (run: string, format: 'pdf' | 'html' = 'pdf') => one('runs', run, 'report') + `?format=${format}`,
  lotReportURL: (lot: string, format: 'pdf' | 'html') => one('lots', lot, 'report') + `?format=${format}`,
  lotLogURL: (lot: string, format: string) => one('lots', lot, 'log') + `?format=${format}`,
  selectionURL: (filter: Record<string, string>, format: string) =>
    one('selection') + '?' + new URLSearchParams({ ...filter, format }),
  lotDifference: (lot: string, other: string) =>
    request<LotDifference>('GET', one('lots', lot, 'difference') + '?' + new URLSearchParams({ with: other })),
  unitReportURL: (serial: string, kind: 'history' | 'card', format: 'pdf' | 'html') =>
    one('units', serial, 'report') + `?kind=${kind}&format=${format}`,
}
