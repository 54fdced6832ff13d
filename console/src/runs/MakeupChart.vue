<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useTheme } from 'vuetify'

import { api, type Makeup } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { type Option, palette, pointedAt, VChart } from '../parts/chart'
import { prefixed } from '../parts/prefixed'
import { saveCSV, useSaving } from '../parts/saving'

// What the channels of a capture are made of, over the part of it that is in view: their frequencies, on logarithmic
// axes, or how often each value occurs.
const props = defineProps<{
  run: string
  capture: number
  view?: [number, number]
  of: 'spectrum' | 'histogram'
  name: string
}>()
const all = shallowRef<Makeup[]>([])
const error = ref<unknown>(null)
let asked = 0
watch(
  () => [props.run, props.capture, props.view] as const,
  async ([run, capture, view]) => {
    const ticket = ++asked
    try {
      const got = await api.captureMakeup(run, capture, view)
      if (ticket === asked) all.value = got
      error.value = null
    } catch (e) {
      error.value = e
    }
  },
  { immediate: true },
)

const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const box = ref<HTMLElement | null>(null)
const panelHeight = 170
const panelGap = 58
const head = 26
const height = computed(() => all.value.length * (panelHeight + panelGap) + head)
const spectrum = computed(() => props.of === 'spectrum')

// A logarithmic axis shows nothing at 0.
const pointsOf = (m: Makeup): [number, number][] =>
  spectrum.value
    ? m.hertz.flatMap((f, k): [number, number][] => (m.amplitudes[k]! > 0 ? [[f, m.amplitudes[k]!]] : []))
    : m.values.map((v, k): [number, number] => [v, 100 * m.shares[k]!])

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const text = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const log = spectrum.value
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: all.value.map((_, i) => ({
      left: 72,
      right: 26,
      top: head + i * (panelHeight + panelGap),
      height: panelHeight,
    })),
    tooltip: {
      ...pointedAt(t),
      formatter: (raw: unknown) => {
        const [p] = raw as { seriesName: string; seriesIndex: number; value: [number, number] }[]
        if (!p) return ''
        const unit = all.value[p.seriesIndex]?.unit ?? ''
        return log
          ? `${p.seriesName} at ${prefixed(p.value[0], 'Hz')}: <b>${prefixed(p.value[1], unit)}</b>`
          : `${p.seriesName} about ${prefixed(p.value[0], unit)}: <b>${p.value[1].toPrecision(3)} %</b>`
      },
    },
    xAxis: all.value.map((m, i) => ({
      type: log ? ('log' as const) : ('value' as const),
      gridIndex: i,
      min: log ? ('dataMin' as const) : undefined,
      max: log ? ('dataMax' as const) : undefined,
      scale: true,
      name: log ? 'frequency' : `${m.name} (${m.unit})`,
      nameLocation: 'middle' as const,
      nameGap: 24,
      nameTextStyle: text,
      splitLine: { show: log, lineStyle: { color: t.line } },
      axisLine: { onZero: false, lineStyle: { color: t.line } },
      axisTick: { lineStyle: { color: t.line } },
      axisLabel: { ...text, hideOverlap: true, formatter: (x: number) => prefixed(x, log ? 'Hz' : m.unit, 3) },
      axisPointer: { label: { show: false } },
    })),
    yAxis: all.value.map((m, i) => ({
      type: log ? ('log' as const) : ('value' as const),
      gridIndex: i,
      min: log ? ('dataMin' as const) : 0,
      name: log ? `${m.name}, amplitude` : `${m.name}, % of the samples`,
      nameTextStyle: { ...text, align: 'left' as const, padding: [0, 0, 0, -62] },
      nameGap: 10,
      axisLine: { show: false, onZero: false },
      splitLine: { lineStyle: { color: t.line } },
      axisLabel: { ...text, formatter: (x: number) => (log ? prefixed(x, m.unit, 2) : String(x)) },
    })),
    series: all.value.map((m, i) => ({
      type: 'line' as const,
      name: m.name,
      data: pointsOf(m),
      symbol: 'none',
      step: log ? undefined : ('middle' as const),
      xAxisIndex: i,
      yAxisIndex: i,
      lineStyle: { width: 1.2, color: m.unit === 'A' ? t.amps : t.volts },
      areaStyle: log ? undefined : { opacity: 0.12, color: m.unit === 'A' ? t.amps : t.volts },
      emphasis: { disabled: true },
    })) as Option['series'],
  }
})

// The strongest line, or the most frequent value, in words.
const words = computed(() =>
  all.value
    .flatMap((m) => {
      const top = pointsOf(m).reduce((a, b) => (b[1] > a[1] ? b : a), [0, -1])
      if (top[1] < 0) return []
      return spectrum.value
        ? [`${m.name}: strongest at ${prefixed(top[0], 'Hz')}, ${prefixed(top[1], m.unit)}`]
        : [`${m.name}: most often about ${prefixed(top[0], m.unit)}`]
    })
    .join(' · '),
)

const { savePNG, saveSVG } = useSaving(
  chart,
  option,
  () => ({ width: box.value?.clientWidth ?? 900, height: height.value }),
  () => `${props.name}-${props.of}`,
)
function saveNumbers() {
  const rows = all.value.flatMap((m) => pointsOf(m).map(([x, y]) => [m.name, x, y, m.unit]))
  const header = spectrum.value
    ? ['channel', 'frequency [Hz]', 'amplitude', 'unit']
    : ['channel', 'value', 'share [%]', 'unit']
  saveCSV(`${props.name}-${props.of}`, header, rows)
}
defineExpose({ savePNG, saveSVG, saveCSV: saveNumbers })
</script>

<template>
  <div>
    <ProblemNote :error="error" />
    <div v-if="all.length" ref="box" class="chart" role="img" :aria-label="`${of}: ${words}`">
      <VChart
        ref="chart"
        :option="option"
        :style="{ height: `${height}px` }"
        autoresize
        :update-options="{ notMerge: true }"
      />
    </div>
    <p class="muted hint" data-test="makeup">{{ words }}</p>
  </div>
</template>

<style scoped>
.chart {
  min-width: 0;
}
.hint {
  font-size: 12px;
  margin: 4px 0 8px;
}
</style>
