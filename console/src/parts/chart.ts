import { CustomChart, LineChart } from 'echarts/charts'
import {
  AxisPointerComponent,
  DataZoomComponent,
  GridComponent,
  LegendComponent,
  MarkAreaComponent,
  MarkLineComponent,
  TooltipComponent,
} from 'echarts/components'
import { init, use } from 'echarts/core'
import { CanvasRenderer, SVGRenderer } from 'echarts/renderers'
import type { EChartsOption } from 'echarts/types/dist/shared'
import VChart from 'vue-echarts'

import { drains, feeds, quantity } from './catalogue'
import { type Tokens, tokens } from '../theme'

use([
  CustomChart,
  LineChart,
  AxisPointerComponent,
  DataZoomComponent,
  GridComponent,
  LegendComponent,
  MarkAreaComponent,
  MarkLineComponent,
  TooltipComponent,
  CanvasRenderer,
  SVGRenderer,
])

export type Option = EChartsOption
export { VChart }

export const palette = (dark: boolean): Tokens => (dark ? tokens.dark : tokens.light)

// dashes tell the seats of a quantity apart, which share its colour: source and meter, load, and the second,
// third … of a kind.
const patterns: ('solid' | number[])[] = ['solid', [10, 3], [2, 2], [10, 3, 2, 3], [5, 2], [1, 3], [10, 3, 2, 3, 2, 3]]
export function dashes(seat: string): 'solid' | number[] {
  const number = Number(/\d+$/.exec(seat)?.[0] ?? 1)
  if (number === 1) return drains(seat) && !feeds(seat) ? [6, 4] : 'solid'
  return patterns[(number - 1) % patterns.length]!
}

// pointedAt is how every chart tells what the pointer is at.
export const pointedAt = (t: Tokens) => ({
  trigger: 'axis' as const,
  confine: true,
  transitionDuration: 0,
  backgroundColor: t.raised,
  borderColor: t.line,
  textStyle: { color: t.ink, fontSize: 12 },
})

// fading tells the phases of a quantity apart: the first is full, the third is faint.
export const fading = (part: string) => ({ '2': 0.7, '3': 0.45 })[part[0] ?? ''] ?? 1

// quantityColor is the colour that a quantity has everywhere.
export function quantityColor(name: string, t: Tokens): string {
  const token = quantity(name)?.colour ?? 'muted'
  return token in t ? t[token as keyof Tokens] : t.muted
}

// svgOf draws an option once more as SVG, for a picture that scales.
export function svgOf(option: Option, width: number, height: number): string {
  const chart = init(null, null, { renderer: 'svg', ssr: true, width, height })
  chart.setOption({ ...option, animation: false })
  const text = chart.renderToSVGString()
  chart.dispose()
  return text
}

// Where a figure lies in a picture: a cross, with its words on the side on which there is room, and those of every
// other one below it, so that neighbours do not cover each other.
export const spotShape = 'path://M0,0L10,10M10,0L0,10'
export function beside(k: number, x: number, xs: number[]): { position: 'left' | 'right'; offset: [number, number] } {
  const [low, high] = [Math.min(...xs), Math.max(...xs)]
  return { position: x - low < 0.35 * (high - low) ? 'right' : 'left', offset: [0, k % 2 ? 16 : -14] }
}

export { save } from './save'
