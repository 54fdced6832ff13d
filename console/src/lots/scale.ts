// The part of an axis that shows all values and limits of a figure, with some room at both ends.
export interface Scale {
  low: number
  high: number
}

export function scaleOf(values: (number | undefined)[]): Scale {
  const ends = values.filter((x): x is number => x !== undefined)
  const [low, high] = [Math.min(...ends), Math.max(...ends)]
  const room = (high - low || Math.abs(high) || 1) * 0.06
  return { low: low - room, high: high + room }
}

// share is how far along the scale a value lies, 0 to 1.
export const share = (s: Scale, v: number) => (v - s.low) / (s.high - s.low)
