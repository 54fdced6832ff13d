import type { Ref } from 'vue'
import { useTheme } from 'vuetify'

import { type Option, palette, svgOf } from './chart'
import { save } from './save'

// saveCSV saves rows under a header; what a spreadsheet would take for a formula is told as text.
export function saveCSV(name: string, header: string[], rows: (string | number)[][]) {
  const cell = (x: string | number) => {
    if (typeof x === 'number') return String(x)
    const text = /^[=+\-@\t\r]/.test(x) ? `'${x}` : x
    return /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
  }
  const lines = [header, ...rows].map((r) => r.map(cell).join(','))
  save(`${name}.csv`, URL.createObjectURL(new Blob([lines.join('\n') + '\n'], { type: 'text/csv' })))
}

// useSaving saves a chart as it is shown: as pixels, and as a picture that scales.
export function useSaving(
  chart: Ref<unknown>,
  option: Ref<Option>,
  size: () => { width: number; height: number },
  name: () => string,
) {
  const theme = useTheme()
  function savePNG() {
    const t = palette(theme.global.current.value.dark)
    const drawn = chart.value as { getDataURL(o: object): string } | null
    if (drawn) save(`${name()}.png`, drawn.getDataURL({ type: 'png', pixelRatio: 2, backgroundColor: t.surface }))
  }
  function saveSVG() {
    const { width, height } = size()
    const text = svgOf(option.value, width, height)
    save(`${name()}.svg`, URL.createObjectURL(new Blob([text], { type: 'image/svg+xml' })))
  }
  return { savePNG, saveSVG }
}
