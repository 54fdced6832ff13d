// A figure over line and load, as an efficiency map has it in its table.
export interface Surface {
  line: number[]
  load: number[]
  at: (number | null)[][] // by line, then by load; null where it is not known
}

const ordered = (xs: unknown[]) =>
  [...new Set(xs.filter((x): x is number => typeof x === 'number'))].sort((a, b) => a - b)

// surfaceOf reads rows of line, load and value; null where they do not spread over both.
export function surfaceOf(rows: unknown[][]): Surface | null {
  const line = ordered(rows.map((r) => r[0]))
  const load = ordered(rows.map((r) => r[1]))
  if (line.length < 2 || load.length < 2) return null
  const at: (number | null)[][] = line.map(() => load.map(() => null))
  for (const [x, y, z] of rows)
    if (typeof x === 'number' && typeof y === 'number' && typeof z === 'number')
      at[line.indexOf(x)]![load.indexOf(y)] = z
  return { line, load, at }
}

function cell(axis: number[], x: number): [number, number] | null {
  const last = axis.length - 1
  if (!(x >= axis[0]! && x <= axis[last]!)) return null
  let i = axis.findIndex((a) => a >= x)
  i = Math.min(Math.max(i - 1, 0), last - 1)
  return [i, (x - axis[i]!) / (axis[i + 1]! - axis[i]!)]
}

// between is the value at a place: bilinear in a cell of which all corners are known.
export function between(s: Surface, line: number, load: number): number | null {
  const a = cell(s.line, line)
  const b = cell(s.load, load)
  if (!a || !b) return null
  const [i, u] = a
  const [j, v] = b
  const corners = [s.at[i]![j], s.at[i]![j + 1], s.at[i + 1]![j], s.at[i + 1]![j + 1]]
  if (corners.some((c) => c === null || c === undefined)) return null
  const [p, q, r, t] = corners as [number, number, number, number]
  return (1 - u) * ((1 - v) * p + v * q) + u * ((1 - v) * r + v * t)
}

// Fine is a surface at equal steps of both axes.
export interface Fine {
  x: number[]
  y: number[]
  z: (number | null)[][] // by y, then by x
}

export function finely(s: Surface, columns: number, rows: number): Fine {
  const steps = (axis: number[], n: number) => {
    const [first, last] = [axis[0]!, axis.at(-1)!]
    return Array.from({ length: n + 1 }, (_, k) => Math.min(first + ((last - first) * k) / n, last))
  }
  const [x, y] = [steps(s.load, columns), steps(s.line, rows)]
  return { x, y, z: y.map((line) => x.map((load) => between(s, line, load))) }
}

// body is from where to where nine tenths of a surface lie: what nearly nothing is loaded with takes no colours away.
export function body(f: Fine): [number, number] | null {
  const all = f.z.flat().filter((z): z is number => z !== null)
  if (!all.length) return null
  all.sort((a, b) => a - b)
  return [all[Math.floor(all.length / 10)]!, all.at(-1)!]
}

const mostLevels = 8

// levels are round values for contours between two.
export function levels([low, high]: [number, number]): number[] {
  if (!(high > low)) return []
  let step = 10 ** Math.floor(Math.log10((high - low) / mostLevels))
  step *= [1, 2, 5, 10].find((round) => (high - low) / (round * step) <= mostLevels) ?? 10
  const out = []
  for (let k = Math.ceil(low / step); k * step < high; k++) if (k * step > low) out.push(k * step)
  return out
}

// contour is where a surface crosses a level, as pieces of straight lines.
export function contour(f: Fine, level: number): [number, number, number, number][] {
  const pieces: [number, number, number, number][] = []
  for (let i = 0; i + 1 < f.y.length; i++)
    for (let j = 0; j + 1 < f.x.length; j++) {
      const corners: [number, number, number | null | undefined][] = [
        [f.x[j]!, f.y[i]!, f.z[i]![j]],
        [f.x[j + 1]!, f.y[i]!, f.z[i]![j + 1]],
        [f.x[j + 1]!, f.y[i + 1]!, f.z[i + 1]![j + 1]],
        [f.x[j]!, f.y[i + 1]!, f.z[i + 1]![j]],
      ]
      if (corners.some((c) => c[2] === null || c[2] === undefined)) continue
      const crossed: [number, number][] = []
      corners.forEach(([x, y, z], k) => {
        const [x2, y2, z2] = corners[(k + 1) % 4]!
        if (z! >= level === z2! >= level) return
        const share = (level - z!) / (z2! - z!)
        crossed.push([x + share * (x2 - x), y + share * (y2 - y)])
      })
      for (let k = 0; k + 1 < crossed.length; k += 2) pieces.push([...crossed[k]!, ...crossed[k + 1]!])
    }
  return pieces
}
