import { LineChart } from 'echarts/charts'
import { AxisPointerComponent, DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { init, use } from 'echarts/core'
import { CanvasRenderer, SVGRenderer } from 'echarts/renderers'
import type { EChartsOption } from 'echarts/types/dist/shared'
import VChart from 'vue-echarts'

import { type Tokens, tokens } from './theme'

use([LineChart, AxisPointerComponent, DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent, CanvasRenderer, SVGRenderer])

export type Option = EChartsOption
export { VChart }

export const palette = (dark: boolean): Tokens => (dark ? tokens.dark : tokens.light)

export function quantityColor(quantity: string, t: Tokens): string {
  const known: Record<string, string> = { volts: t.volts, amps: t.amps, watts: t.watts, celsius: t.celsius, charge: t.charge, energy: t.charge }
  return known[quantity] ?? t.muted
}

// svgOf draws an option once more as SVG, for a picture that scales.
export function svgOf(option: Option, width: number, height: number): string {
  const chart = init(null, null, { renderer: 'svg', ssr: true, width, height })
  chart.setOption({ ...option, animation: false })
  const text = chart.renderToSVGString()
  chart.dispose()
  return text
}

export { save } from './save'
