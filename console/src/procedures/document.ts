import { isMap, isScalar, isSeq, LineCounter, type Node, parseDocument, type Scalar, YAMLMap } from 'yaml'

// Forms and drawings edit the text of a procedure where a value stands and leave everything else, comments too,
// as it is.

// Field is a value of a stage that can be edited by itself.
export interface Field {
  path: (string | number)[]
  label: string
  text: string
  from: number
  to: number
  quoted: boolean
}

function parse(text: string) {
  const lines = new LineCounter()
  return { doc: parseDocument(text, { lineCounter: lines, keepSourceTokens: true }), lines }
}

// stageAt finds the map of the stage that begins at a line, however deep it stands.
function stageAt(text: string, line: number): YAMLMap | null {
  const { doc, lines } = parse(text)
  const search = (list: unknown): YAMLMap | null => {
    if (!isSeq(list)) return null
    for (const item of list.items) {
      if (!isMap(item) || !item.range) continue
      if (lines.linePos(item.range[0]).line === line) return item
      const inside = search(item.get('stages', true)) ?? search(item.get('otherwise', true))
      if (inside) return inside
    }
    return null
  }
  return search(doc.get('stages', true))
}

// labelOf words the place of a value: "over 1 › set" for the first of a list.
function labelOf(path: (string | number)[]): string {
  const inner = path.length > 1 && typeof path[1] === 'string' ? path.slice(1) : path
  return inner
    .map((p, i) => (typeof p === 'number' ? String(p + 1) : `${i > 0 ? ' › ' : ''}${p}`))
    .join('')
    .replace(/([a-z])(\d)/g, '$1 $2')
}

// fieldsOf lists the values of the stage at a line. Stages inside it have fields of their own.
export function fieldsOf(text: string, line: number): Field[] {
  const stage = stageAt(text, line)
  const fields: Field[] = []
  const walk = (node: unknown, path: (string | number)[]) => {
    if (isMap(node)) {
      for (const pair of node.items) {
        const key = String((pair.key as Scalar).value)
        if (path.length === 0 && (key === 'stages' || key === 'otherwise')) continue
        walk(pair.value, [...path, key])
      }
      return
    }
    if (
      isSeq(node) &&
      node.items.some(
        (i) => !isScalar(i) || String(i.value).includes(' at ') || /^(ramp|step|exponential) /.test(String(i.value)),
      )
    ) {
      node.items.forEach((item, i) => walk(item, [...path, i]))
      return
    }
    const range = (node as Node | null)?.range
    if (!range) return
    const source = text.slice(range[0], range[1])
    const quoted = isScalar(node) && (node.type === 'QUOTE_DOUBLE' || node.type === 'QUOTE_SINGLE')
    fields.push({
      path,
      label: labelOf(path),
      text: quoted ? String((node as Scalar).value) : source,
      from: range[0],
      to: range[1],
      quoted,
    })
  }
  if (stage) walk(stage, [])
  return fields
}

const plain = /^[\w.+\-*/°%Ωµ() ×]+$/

// withField puts a value in the place of another.
export function withField(text: string, field: Field, value: string): string {
  const list = field.text.startsWith('[') && value.startsWith('[')
  const written = list || (!field.quoted && plain.test(value)) ? value : JSON.stringify(value)
  return text.slice(0, field.from) + written + text.slice(field.to)
}

// withStage adds a stage after the last.
export function withStage(text: string, stage: string): string {
  const { doc } = parse(text)
  const list = doc.get('stages', true)
  if (!isSeq(list) || !list.range) return `${text.trimEnd()}\nstages:\n${indented(stage, '  ')}\n`
  const last = list.items.at(-1) as Node | undefined
  const end = last?.range?.[1] ?? list.range[1]
  const before = text.slice(0, end).trimEnd()
  const column = lineStart(text, list.range[0])
  return `${before}\n${indented(stage, ' '.repeat(column))}\n${text.slice(end).replace(/^[ \t]*\n/, '')}`
}

const lineStart = (text: string, offset: number) => offset - (text.lastIndexOf('\n', offset - 1) + 1)
const indented = (text: string, by: string) =>
  text
    .split('\n')
    .map((l) => by + l)
    .join('\n')

// withTable lets the text carry a table.
export function withTable(text: string, name: string, csv: string): string {
  const entry = `  ${name}: |\n${indented(csv.trimEnd(), '    ')}\n`
  const at = /^tables:[ \t]*(#.*)?\n/m.exec(text)
  if (at) return text.slice(0, at.index + at[0].length) + entry + text.slice(at.index + at[0].length)
  return `${text.trimEnd()}\ntables:\n${entry}`
}

// renamed gives a procedure another name, as when a new one begins from an old one.
export const renamed = (text: string, name: string) => text.replace(/^procedure:.*$/m, `procedure: ${name}`)

const number = '-?[\\d.]+(?:e-?\\d+)?\\s*[a-zA-ZµΩ°%]*'
const levelPlace: Record<string, RegExp> = {
  hold: new RegExp(`(\\bat\\s+)(${number})`),
  step: new RegExp(`(\\bto\\s+)(${number})`),
  ramp: new RegExp(`(\\bto\\s+)(${number})`),
}
const timePlace: Record<string, RegExp> = {
  hold: new RegExp(`(^\\s*hold\\s+)(${number})`),
  step: new RegExp(`(\\bfor\\s+)(${number})`),
  ramp: new RegExp(`(\\bin\\s+)(${number})`),
}

const word = (phrase: string) => phrase.trim().split(' ')[0] ?? ''

// movable tells what of a phrase can be drawn: values that are written as numbers, not as parameters.
export function movable(phrase: string): { level: boolean; time: boolean } {
  const kind = word(phrase)
  return { level: levelPlace[kind]?.test(phrase) ?? false, time: timePlace[kind]?.test(phrase) ?? false }
}

// withPhrase changes level or length of a segment's phrase.
export function withPhrase(phrase: string, change: { level?: string; time?: string }): string {
  const kind = word(phrase)
  let out = phrase
  if (change.level !== undefined && levelPlace[kind]) out = out.replace(levelPlace[kind], `$1${change.level}`)
  if (change.time !== undefined && timePlace[kind]) out = out.replace(timePlace[kind], `$1${change.time}`)
  return out
}

// timeText writes a time as an engineer would.
export function timeText(s: number): string {
  if (s < 1) return `${Number((s * 1000).toPrecision(3))} ms`
  return `${Number(s.toPrecision(4))} s`
}
