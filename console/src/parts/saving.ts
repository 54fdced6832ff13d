import type { Ref } from 'vue'
import { useTheme } from 'vuetify'

import { type Option, palette, svgOf } from './chart'
import { save } from './save'

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
