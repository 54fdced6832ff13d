import type { Line } from './TraceChart.vue'
import { catalogue, quantity } from './catalogue'
import { quantityOf, seatOf } from './format'

// A panel is an axis with the traces that share it.
export interface Panel {
  quantity: string
  columns: string[]
  title: string
}

// How traces are put into panels: those of a quantity share one unless one of them could not be seen beside the others,
// or all of them, or each has its own.
export type Sharing = 'auto' | 'together' | 'apart'

// What cannot be seen beside others spans less than this share of their axis; what spans less than that share of its
// own value is flat, and nothing is lost.
const unseen = 0.05
const flat = 0.001

interface Extent {
  low: number
  high: number
  span: number // of the middle nine tenths, so that a start from zero does not count
  middle: number
}

function extentOf(line: Line, from: number, to: number): Extent | null {
  const stride = Math.max(Math.floor(line.data.length / 2000), 1)
  const values: number[] = []
  for (let k = 0; k < line.data.length; k += stride) {
    const [t, x] = line.data[k]!
    if (x !== null && t >= from && t <= to) values.push(x)
  }
  if (!values.length) return null
  values.sort((a, b) => a - b)
  const at = (share: number) => values[Math.round(share * (values.length - 1))]!
  return { low: values[0]!, high: values.at(-1)!, span: at(0.95) - at(0.05), middle: at(0.5) }
}

// hidden are the columns of a quantity that would be a flat line beside the others.
function hidden(lines: Line[], from: number, to: number): string[] {
  const extents = lines.map((l) => ({ column: l.column, of: extentOf(l, from, to) })).filter((e) => e.of !== null)
  const axis = Math.max(...extents.map((e) => e.of!.high)) - Math.min(...extents.map((e) => e.of!.low))
  return extents
    .filter(({ of }) => of!.span < unseen * axis && of!.span > flat * Math.abs(of!.middle))
    .map((e) => e.column)
}

const named = (name: string, columns: string[], all: number, reference: Reference) => {
  const q = quantity(name)
  const of = columns.length < all ? ` of ${[...new Set(columns.map(seatOf))].join(', ')}` : ''
  const plain = q?.title ?? name
  const from =
    reference === 'mean' || reference === 'rehearsal'
      ? `the ${reference}`
      : reference === 'rated'
        ? 'what is rated'
        : seatOf(reference)
  const what = reference ? `Deviation of ${plain.toLowerCase()}${of} from ${from}` : plain + of
  return q?.unit ? `${what} (${q.unit})` : what
}

// panelsOf puts lines into panels, in the order of the catalogue.
export function panelsOf(lines: Line[], view: [number, number], sharing: Sharing, reference: Reference): Panel[] {
  return catalogue.quantities
    .filter((q) => q.charted)
    .flatMap((q) => {
      const own = lines.filter((l) => !l.foretold && quantityOf(l.column) === q.name)
      const columns = [...new Set(own.map((l) => l.column))]
      if (!columns.length) return []
      const alone =
        sharing === 'apart' ? columns : sharing === 'auto' && columns.length > 1 ? hidden(own, view[0], view[1]) : []
      const shared = columns.filter((c) => !alone.includes(c))
      const groups = [...(shared.length ? [shared] : []), ...alone.map((c) => [c])]
      return groups.map((g) => ({ quantity: q.name, columns: g, title: named(q.name, g, columns.length, reference) }))
    })
}

// liveEnd is where the axis of a live picture ends: it leaves some air to the right of now.
export const liveEnd = (from: number, to: number, until?: number): number =>
  Math.max(to + 0.04 * (to - from), until ?? 0, from + 1e-3)

// What traces are drawn less of: nothing, each its mean over the view, what the unit is rated for, what its rehearsal
// gave, or another trace of the same quantity, by its column.
export type Reference = '' | 'mean' | 'rated' | 'rehearsal' | (string & {})

// Rated is what columns read when the unit works as it is rated.
export type Rated = Record<string, number>

type Point = [number, number | null]

// references are what lines can be drawn less of, with words for them.
export function references(lines: Line[], rated: Rated): { value: Reference; title: string }[] {
  const columns = [...new Set(lines.filter((l) => !l.foretold).map((l) => l.column))]
  const shared = columns.filter((c) => columns.some((other) => other !== c && quantityOf(other) === quantityOf(c)))
  return [
    { value: '', title: 'Values' },
    { value: 'mean', title: 'Deviation from the mean of the view' },
    ...(columns.some((c) => c in rated)
      ? [{ value: 'rated', title: 'Deviation from what the unit is rated for' }]
      : []),
    ...(lines.some((l) => l.foretold) ? [{ value: 'rehearsal', title: 'Deviation from the rehearsal' }] : []),
    ...shared.map((c) => ({ value: c, title: `Deviation from ${c}` })),
  ]
}

// deviating are the lines less a reference; those that have none are left out.
export function deviating(lines: Line[], view: [number, number], reference: Reference, rated: Rated): Line[] {
  if (!reference) return lines
  if (reference === 'mean') return lessMean(lines, view)
  if (reference === 'rated')
    return lines.flatMap((l) => {
      const at = rated[l.column]
      return at === undefined ? [] : [{ ...l, data: l.data.map(([t, x]): Point => [t, x === null ? null : x - at]) }]
    })
  const own = lines.filter((l) => !l.foretold)
  const of =
    reference === 'rehearsal'
      ? (l: Line) => lines.find((x) => x.foretold && x.column === l.column)
      : (l: Line) =>
          l.column !== reference && quantityOf(l.column) === quantityOf(reference)
            ? own.find((x) => x.column === reference)
            : undefined
  return own.flatMap((l) => {
    const from = of(l)
    return from ? [{ ...l, data: less(l.data, from.data) }] : []
  })
}

function lessMean(lines: Line[], [from, to]: [number, number]): Line[] {
  const means = new Map<string, number>()
  for (const l of lines.filter((x) => !x.foretold)) {
    const values = l.data.filter(([t, x]) => x !== null && t >= from && t <= to).map(([, x]) => x!)
    if (values.length) means.set(l.column, values.reduce((sum, x) => sum + x, 0) / values.length)
  }
  return lines.map((l) => {
    const mean = means.get(l.column) ?? 0
    return { ...l, data: l.data.map(([t, x]): Point => [t, x === null ? null : x - mean]) }
  })
}

// less is one trace less another, which is taken to go straight between its points; nothing where either has nothing.
function less(data: Point[], from: Point[]): Point[] {
  let k = 0
  return data.map(([t, x]): Point => {
    while (k + 1 < from.length && from[k + 1]![0] <= t) k++
    const [t0, x0] = from[k] ?? [NaN, null]
    const [t1, x1] = from[k + 1] ?? [t0, x0]
    if (x === null || x0 === null || x1 === null || t < t0 || t > t1) return [t, null]
    return [t, x - (t1 > t0 ? x0 + ((x1 - x0) * (t - t0)) / (t1 - t0) : x0)]
  })
}
