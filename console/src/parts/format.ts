import type { Figure } from '../api'
import { catalogue, quantity } from './catalogue'

const minus = '\u2212'

// fixed shows a number with a fixed count of decimals and a true minus sign; a missing one is a dash.
export function fixed(x: number | null | undefined, decimals: number): string {
  if (x === null || x === undefined || !Number.isFinite(x)) return '—'
  const text = Math.abs(x).toFixed(decimals)
  return (x < 0 && Number(text) !== 0 ? minus : '') + text
}

// columnsOf lists what a person reads of a seat as a whole, in the order in which it is shown.
export const columnsOf = (seat: string, readings: Record<string, number | null>) =>
  catalogue.quantities
    .filter((q) => q.read)
    .map((q) => `${seat}.${q.name}`)
    .filter((c) => c in readings)

// A column is seat.quantity, or seat.quantity.part of one: meter.volts.2, meter.amps.1.h5.
export const quantityOf = (column: string) => column.split('.')[1] ?? column
export const partOf = (column: string) => column.split('.').slice(2).join('.')
export const seatOf = (column: string) => column.slice(0, Math.max(column.indexOf('.'), 0))
export const unitOf = (column: string) => quantity(quantityOf(column))?.unit ?? ''
export const reading = (column: string, x: number | null | undefined) =>
  fixed(x, quantity(quantityOf(column))?.decimals ?? 3)
// rangeOf is the range in which amps are measured just now, for them and for itself.
export const rangeOf = (column: string, readings: Record<string, number | null>) =>
  ['amps', 'range'].includes(quantityOf(column)) ? readings[`${seatOf(column)}.range`] : undefined
// isDrawn tells whether curves show a column without being asked.
export const isDrawn = (column: string) => (quantity(quantityOf(column))?.drawn ?? false) && partOf(column) === ''
// isPhase tells whether a column is one phase of what is drawn.
export const isPhase = (column: string) => (quantity(quantityOf(column))?.drawn ?? false) && /^\d$/.test(partOf(column))

// seconds words a time in a run.
export function seconds(s: number): string {
  if (!Number.isFinite(s) || s < 0) return '—'
  if (s < 60) return `${s.toFixed(s < 10 ? 1 : 0)} s`
  const whole = Math.round(s)
  if (whole < 3600) return `${Math.floor(whole / 60)} min ${String(whole % 60).padStart(2, '0')} s`
  return `${Math.floor(whole / 3600)} h ${String(Math.floor((whole % 3600) / 60)).padStart(2, '0')} min`
}

// clock words a bench time on an axis, with as many decimals as the view needs.
export function clock(s: number, span: number): string {
  if (span < 120 && s < 120) return `${s.toFixed(span < 0.5 ? 3 : span < 5 ? 2 : span < 30 ? 1 : 0)} s`
  const rest = s % 60
  const small = rest.toFixed(span < 5 ? 2 : span < 60 ? 1 : 0).padStart(span < 5 ? 5 : span < 60 ? 4 : 2, '0')
  const minutes = Math.floor(s / 60)
  return minutes >= 60
    ? `${Math.floor(minutes / 60)}:${String(minutes % 60).padStart(2, '0')}:${small}`
    : `${minutes}:${small}`
}

// counted words a number of things: "1 bay", "2 bays".
export const counted = (n: number, one: string, many = `${one}s`) => `${n} ${n === 1 ? one : many}`

export const dateTime = (t: string) =>
  new Date(t).toLocaleString('en-GB', {
    year: 'numeric',
    month: 'short',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
  })
export const timeOfDay = (t: string | Date) => new Date(t).toLocaleTimeString('en-GB')

// digits shows a number with so many significant digits, without an exponent.
export function digits(x: number, n: number): string {
  const places = x === 0 ? 0 : n - 1 - Math.floor(Math.log10(Math.abs(x)))
  const text = fixed(Number(x.toPrecision(n)), Math.min(Math.max(places, 0), 12))
  return text.includes('.') ? text.replace(/\.?0+$/, '') : text
}

// value words a figure with two digits of uncertainty and the value to the same place.
export function value(f: Figure): string {
  const { value: x, u } = f
  if (f.undetermined || x === null) return 'undetermined'
  if (f.text) return f.id === 'termination' ? `${f.text} after ${seconds(x)}` : `${fixed(x, 2)} ${f.unit}, ${f.text}`
  if (f.unit === 'cycles') return `${Number(x.toPrecision(4))} cycles`
  return uncertain(x, u ?? 0, f.unit)
}

// uncertain words a value with two digits of its uncertainty, and the value to the same place.
export function uncertain(x: number, u: number, of: string): string {
  const [scale, unit] = readable(of, x)
  if (u <= 0) return `${digits(x / scale, 5)} ${unit}` // nobody knows how many digits count
  const d = Math.min(Math.max(1 - Math.floor(Math.log10(Number((u / scale).toPrecision(2)))), 0), 9)
  return `${fixed(x / scale, d)} ± ${fixed(u / scale, d)} ${unit}`
}

// readable is the unit with the prefix in which a small time, voltage, current, charge or energy, or a large
// resistance, frequency or slew, is read best, and by what a value in the unit itself is divided. Whatever else stays
// in the unit that it is always in.
function readable(unit: string, x: number): [number, string] {
  const size = Math.abs(x)
  if (size > 0 && size < 0.1 && ['s', 'V', 'A', 'Ah', 'Wh'].includes(unit)) {
    const small: [number, string][] = [
      [1e-3, 'm'],
      [1e-6, 'µ'],
      [1e-9, 'n'],
      [1e-12, 'p'],
    ]
    const [scale, sign] = small.find(([scale]) => size >= scale) ?? small[3]!
    return [scale, sign + unit]
  }
  if (unit === 'Ω' && size >= 1e6) return size >= 1e9 ? [1e9, 'GΩ'] : [1e6, 'MΩ']
  if (unit === 'Hz' || unit === 'V/s') {
    if (size >= 1e6) return [1e6, `M${unit}`]
    if (size >= 1e4) return [1e3, `k${unit}`]
  }
  return [1, unit]
}

export function limit(f: Figure): string {
  // A duration that nobody reads in seconds is shown as people say it.
  const long = f.unit === 's' && Math.max(Math.abs(f.min ?? 0), Math.abs(f.max ?? 0)) >= 120
  const [scale, prefixed] = readable(f.unit, Math.max(Math.abs(f.min ?? 0), Math.abs(f.max ?? 0)))
  const short = (x: number) => (long ? seconds(x) : String(Number((x / scale).toPrecision(6))).replace('-', minus))
  const unit = long ? '' : ` ${prefixed}`
  if (f.min === undefined && f.max === undefined) return '—'
  if (f.min === undefined)
    return `≤ ${short(f.max!)}${unit}` + (f.marginal ? ` (marginal above ${short(f.max! - f.marginal)})` : '')
  if (f.max === undefined)
    return `≥ ${short(f.min)}${unit}` + (f.marginal ? ` (marginal below ${short(f.min + f.marginal)})` : '')
  return `${short(f.min)} … ${short(f.max)}${unit}`
}

// cell words a cell of a figure's table: times as people read them, numbers with four digits or so, a dash for
// what is missing.
export function cell(x: unknown, unit: string | undefined): string {
  if (typeof x === 'string') return x || '—'
  if (typeof x !== 'number') return '—'
  if (unit === 's') return seconds(x)
  if (!unit && Number.isInteger(x)) return String(x)
  return fixed(x, digitsFor(x))
}

const digitsFor = (x: number) => (x === 0 ? 2 : Math.min(Math.max(3 - Math.floor(Math.log10(Math.abs(x))), 0), 5))
export const short = (x: number | null | undefined) => (x === null || x === undefined ? '—' : fixed(x, digitsFor(x)))

// stateOf is what a list says of a run: that it is live, that it found no contact, or its outcome.
export function stateOf(r: { state: string; outcome?: string }): string {
  if (r.state === 'live') return 'live'
  return r.state === 'open-contact' && r.outcome === 'aborted' ? 'open contact' : (r.outcome ?? '')
}

// many words a number on an axis: neither thousands of thousands nor many zeros would be read.
export function many(x: number): string {
  if (Math.abs(x) >= 1e4) return `${(x / 1000).toLocaleString('en-GB')} k`
  if (x !== 0 && Math.abs(x) < 1e-3) {
    const [scale, sign] = Math.abs(x) >= 1e-6 ? [1e-6, 'µ'] : Math.abs(x) >= 1e-9 ? [1e-9, 'n'] : [1e-12, 'p']
    return `${Number((x / scale).toPrecision(6))} ${sign}`.replace('-', '−')
  }
  return x.toLocaleString('en-GB', { maximumFractionDigits: 9 }).replace('-', '−')
}
