import type { Bay, Place, UnitVerdict } from '../api'
import { seconds, timeOfDay } from '../parts/format'

// What a place shows: a kind, which is a colour, a word and a shape, the unit, and lines below.
export interface Shown {
  kind: UnitVerdict | 'waits' | 'tests'
  word: string
  serial: string
  lines: string[]
}

const shapes: Record<UnitVerdict, string> = { pass: '●', marginal: '▲', fail: '■', attention: '◆' }

// shapeOf is the shape of a verdict; what is none has none.
export const shapeOf = (kind: Shown['kind']): string => (kind in shapes ? shapes[kind as UnitVerdict] : '')

// isNewer tells a place from how it was before: an answer may come after the news of what followed it.
export const isNewer = (p: Place, before: Place | null | undefined) => !before || p.change >= before.change

// worst is the verdict of several that an operator must hear.
export function worst(verdicts: UnitVerdict[]): UnitVerdict | undefined {
  const order: UnitVerdict[] = ['attention', 'fail', 'marginal', 'pass']
  return order.find((v) => verdicts.includes(v))
}

// capital makes a word the first of a line.
export const capital = (word: string): string => word.charAt(0).toUpperCase() + word.slice(1)

// canEnd tells whether enough readings were taken.
export const canEnd = (p: { take?: { taken: number; least: number } }) => (p.take?.taken ?? 0) >= (p.take?.least ?? 1)

// byHand says how a prompt is answered that no single key answers.
function byHand(form: string, unit?: string): string {
  if (form === 'number') return `type a number in ${unit || '1'}`
  if (form === 'serial') return 'scan the unit'
  return form === 'picture' ? "join a picture on the bay's page" : 'type'
}

// shownOf says what a place shows, from how it is, how its bay is, and when the service was lost.
export function shownOf(place: Place | null, bay: Bay | undefined, lostAt: number | null): Shown {
  const u = place?.unit
  const serial = u?.serial ?? ''
  const attention = (word: string, lines: string[], of = serial): Shown => ({
    kind: 'attention',
    word,
    serial: of,
    lines,
  })
  if (lostAt !== null)
    return attention('No contact', [
      'with the service since ' + timeOfDay(new Date(lostAt)),
      'A test that runs goes on. It comes back.',
    ])
  if (bay?.alarm) return attention('Alarm', [bay.alarm], '')
  if (place?.held) return attention('Held', [place.held, 'Look around, then go on.'])
  const p = bay?.prompt
  if (p) {
    const how =
      p.form === 'confirm'
        ? ['Enter: yes', 'Esc: no']
        : p.form === 'take'
          ? [`Enter: take · ${p.take?.taken ?? 0} taken`, ...(canEnd(p) ? ['Esc: done'] : [])]
          : p.form === 'choice'
            ? (p.choice ?? []).map((c, i) => `${i + 1}: ${c}`)
            : [byHand(p.form, p.unit)]
    return { kind: 'waits', word: p.prompt, serial, lines: how }
  }
  if (u?.run) {
    const at = bay?.progress
    const stage = at ? at.name + (at.left > 0 ? `, ${seconds(at.left)} to go` : '') : ''
    const many = u.of > 1 ? [`${u.of - u.toDo.length} of ${u.of}`] : []
    return { kind: 'tests', word: 'Testing', serial, lines: [bay?.run?.title ?? '', stage, ...many] }
  }
  if (u?.problem) return attention('Not begun', [u.problem, 'Enter: try again · Esc: take it back'])
  if (u?.wanted.length) return { kind: 'waits', word: `Scan the ${u.wanted[0]}`, serial, lines: [] }
  if (u) return { kind: 'waits', word: 'Ready', serial, lines: ['Enter: begin · Esc: take it back'] }
  const last = place?.last
  if (last) return { kind: last.verdict, word: last.verdict, serial: last.serial, lines: last.words }
  return { kind: 'waits', word: 'Scan a unit', serial: '', lines: [] }
}

// what says what a place tests units by.
export function what(place: Place | null): string {
  const s = place?.setup
  if (!s) return ''
  return s.card ? `card of ${s.card}` : (s.procedures ?? []).join(', ')
}
