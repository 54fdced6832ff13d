<script setup lang="ts">
import { computed, ref } from 'vue'
import { useTheme } from 'vuetify'

import type { PlayedCurve, Spot } from '../api'
import { beside, type Option, palette, spotShape, VChart } from './chart'
import { fixed, quantityOf, short, unitOf } from './format'
import { prefixed } from './prefixed'
import { saveCSV, useSaving } from './saving'

// One picture over the points of a run, or over what it played: a figure or quantity over a column, with the places at
// which figures lie; drawn as deviations where it is less something.
const props = defineProps<{
  played?: PlayedCurve[]
  title?: string
  of: string
  less?: string
  by: string
  per?: string
  log?: string
  spots?: Spot[]
  rated?: Record<string, number>
  name: string
}>()
const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const height = 260

const unit = (of: string) => (of === 'efficiency' ? '%' : of === 'loss' ? 'W' : unitOf(of))
const words = (of: string) => of.replace('.', ' ').replace(/^./, (c) => c.toUpperCase())
// named is a column with its unit, where it has one.
const named = (text: string, of: string) => (unit(of) ? `${text} (${unit(of)})` : text)

// deviating is a line less what is rated, or less its mean.
function deviating(data: [number, number][]): [number, number][] {
  const mean = data.reduce((sum, [, y]) => sum + y, 0) / data.length
  const base = props.less === 'mean' ? mean : props.less === 'rated' ? (props.rated?.[props.of] ?? 0) : 0
  return data.map(([x, y]) => [x, y - base])
}
const shown = computed(() => {
  const of = words(props.of)
  if (!props.less) return of
  const rated = props.rated?.[props.of]
  const from =
    props.less === 'mean'
      ? 'their mean'
      : props.less === 'rated'
        ? `rated ${short(rated)} ${unit(props.of)}`
        : words(props.less)
  return `${of} less ${from}`
})

type Drawn = { name: string; data: [number, number][]; dots: boolean }
const lines = computed<Drawn[]>(() =>
  (props.played ?? [])
    .filter((c) => c.of === props.of && c.by === props.by && (c.per ?? '') === (props.per ?? ''))
    .filter((c) => (c.less ?? '') === (props.less ?? '') && (c.log ?? '') === (props.log ?? ''))
    .filter((c) => c.title === props.title)
    .map((c) => ({
      name: c.label || words(props.of),
      data: deviating(c.x.map((x, k) => [x, c.y[k]!])),
      dots: c.dots ?? false,
    })),
)
// The places of figures that are told by name, as far as this picture has them.
const places = computed(() =>
  props.less ? [] : (props.spots ?? []).filter((s) => s.of === props.of && s.by === props.by && s.label),
)

const dashes: (string | number[])[] = ['solid', [7, 3], [2, 3], [9, 3, 2, 3]]
const symbols = ['circle', 'triangle', 'rect', 'diamond']

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const colors = [t.volts, t.amps, t.watts, t.celsius]
  const text = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const axis = (logarithmic: boolean) => ({
    type: logarithmic ? ('log' as const) : ('value' as const),
    scale: true,
    axisLabel: logarithmic ? { ...text, formatter: (x: number) => prefixed(x, '') } : text,
    nameTextStyle: text,
    axisLine: { lineStyle: { color: t.line } },
    splitLine: { lineStyle: { color: t.line } },
  })
  const xs = lines.value.flatMap((l) => l.data.map(([x]) => x))
  const amount = (x: number, of: string) => prefixed(x, unit(of))
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: { left: 64, right: 20, top: 34, bottom: 44 },
    legend: {
      data: lines.value.map((l) => l.name),
      top: 0,
      right: 4,
      itemWidth: 26,
      textStyle: { color: t.muted, fontSize: 11 },
    },
    tooltip: {
      trigger: 'item',
      backgroundColor: t.raised,
      borderColor: t.line,
      textStyle: { color: t.ink, fontSize: 12 },
      formatter: (raw: unknown) => {
        const p = raw as { seriesName: string; value: [number, number] }
        if (props.log)
          return `${p.seriesName}<br>${amount(p.value[0], props.by)}<br><b>${amount(p.value[1], props.of)}</b>`
        const decimals = quantityOf(props.of) === 'volts' ? 4 : 2
        const by = `${words(props.by)} ${fixed(p.value[0], 3)} ${unit(props.by)}`
        return `${p.seriesName}<br>${by}<br><b>${fixed(p.value[1], decimals)}</b> ${unit(props.of)}`
      },
    },
    xAxis: {
      ...axis(props.log?.includes('x') ?? false),
      name: named(words(props.by), props.by),
      nameLocation: 'middle',
      nameGap: 28,
      splitLine: { show: false },
    },
    yAxis: {
      ...axis(props.log?.includes('y') ?? false),
      name: named(shown.value, props.of),
      nameTextStyle: { ...text, align: 'left', padding: [0, 0, 0, -54] },
    },
    series: [
      ...lines.value.map(({ name, data, dots }, i) => ({
        type: 'line',
        name,
        data,
        symbol: dots ? symbols[i % 4] : 'none',
        symbolSize: data.length > 40 ? 4 : 6,
        lineStyle: { width: 1.6, type: dashes[i % 4], color: colors[i % 4] },
        itemStyle: { color: colors[i % 4] },
      })),
      ...places.value.map((s, k) => ({
        type: 'line',
        name: s.label,
        data: [[s.x, s.y]],
        symbol: spotShape,
        symbolSize: 13,
        itemStyle: { color: t.ink, borderColor: t.ink, borderWidth: 2 },
        label: {
          show: true,
          formatter: `${s.label} ${amount(s.y, s.of)} at ${amount(s.x, s.by)}`,
          ...beside(k, s.x, xs),
          backgroundColor: t.surface,
          padding: [1, 4],
          color: t.ink,
          fontSize: 11,
        },
        z: 5,
      })),
    ] as Option['series'],
  }
})

const file = computed(() => {
  const words = [props.title?.toLowerCase(), props.of, props.less && `less-${props.less}`, 'by', props.by]
  return [props.name, ...words.filter(Boolean)].join('-')
})
const { savePNG, saveSVG } = useSaving(
  chart,
  option,
  () => ({ width: 800, height }),
  () => file.value,
)
function saveNumbers() {
  const header = ['curve', `${props.by} [${unit(props.by)}]`, `${shown.value} [${unit(props.of)}]`]
  const rows = lines.value.flatMap((l) => l.data.map(([x, y]): (string | number)[] => [l.name, x, y]))
  saveCSV(file.value, header, rows)
}
</script>

<template>
  <div class="panel" data-test="points-chart">
    <div class="tools">
      <h2>{{ title ?? `${shown} by ${words(by).toLowerCase()}` }}</h2>
      <span class="grow" />
      <v-btn size="small" @click="savePNG">PNG</v-btn>
      <v-btn size="small" @click="saveSVG">SVG</v-btn>
      <v-btn size="small" data-test="points-csv" @click="saveNumbers">CSV</v-btn>
    </div>
    <VChart ref="chart" :option="option" :style="{ height: `${height}px` }" autoresize />
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  gap: 8px 12px;
  align-items: baseline;
}
</style>
