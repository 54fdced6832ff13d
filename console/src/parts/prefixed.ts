import { digits, fixed } from './format'

const prefixes = [
  [1e-12, 'p'],
  [1e-9, 'n'],
  [1e-6, 'µ'],
  [1e-3, 'm'],
  [1, ''],
  [1e3, 'k'],
  [1e6, 'M'],
  [1e9, 'G'],
] as const

// prefixOf is the prefix with which a number of a unit is read best.
export function prefixOf(x: number): readonly [number, string] {
  const size = Math.abs(x)
  let best: readonly [number, string] = prefixes[0]
  for (const p of prefixes) if (size >= p[0] * 0.9995) best = p
  return size === 0 ? [1, ''] : best
}

// prefixed shows a number with its unit: 907.1 µs.
export function prefixed(x: number | null | undefined, unit: string, n = 4): string {
  if (x === null || x === undefined || !Number.isFinite(x)) return '—'
  const [factor, prefix] = prefixOf(x)
  return `${digits(x / factor, n)} ${prefix}${unit}`
}

// onAxis shows a number of an axis whose largest is given, all with one prefix.
export function onAxis(x: number, most: number, span: number): string {
  const [factor] = prefixOf(most)
  const places = Math.min(Math.max(Math.ceil(0.5 - Math.log10(span / factor / 8)), 0), 6)
  return fixed(x / factor, places)
}
