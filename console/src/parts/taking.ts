import type { Prompt } from '../api'

export type TakeLimits = NonNullable<NonNullable<Prompt['take']>['limits']>
type Limit = TakeLimits[string]
export type TakeVerdict = 'good' | 'marginal' | 'bad'

// Word, shape and colour together, so that colour is never the only sign.
export const signs: Record<TakeVerdict, string> = { good: '●', marginal: '▲', bad: '■' }

// verdictOf holds a reading against its limit; undefined where there is none, or no reading.
export function verdictOf(limit: Limit | undefined, x: number | null | undefined): TakeVerdict | undefined {
  if (!limit || x === null || x === undefined) return undefined
  const { min = -Infinity, max = Infinity, marginal = 0 } = limit
  if (x < min || x > max) return 'bad'
  return x < min + marginal || x > max - marginal ? 'marginal' : 'good'
}
