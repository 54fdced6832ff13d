<script setup lang="ts">
import { computed, ref } from 'vue'
import { useTheme } from 'vuetify'

import type { PlayedCurve, Point } from '../api'
import { drains, feeds } from '../parts/catalogue'
import { type Option, palette, VChart } from '../parts/chart'
import { fixed, quantityOf, short, unitOf } from '../parts/format'
import { saveCSV, useSaving } from '../parts/saving'

// One picture over the points of a run, or over what it played: a figure or quantity over a column, a curve for each
// value of another, or for each way there and back; drawn as deviations where it is less something.
const props = defineProps<{
  points: Point[]
  played?: PlayedCurve[]
  title?: string
  of: string
  less?: string
  by: string
  per?: string
  rated?: Record<string, number>
  name: string
}>()
const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const height = 260

const unit = (of: string) => (of === 'efficiency' ? '%' : of === 'loss' ? 'W' : unitOf(of))
const words = (of: string) => of.replace('.', ' ').replace(/^./, (c) => c.toUpperCase())

// watts are those of all seats that do something for the unit; null if there are none.
function watts(p: Point, does: (seat: string) => boolean): number | null {
  const all = Object.entries(p.averages).filter(([c, a]) => c.endsWith('.watts') && does(c.split('.')[0]!) && a.n > 0)
  return all.length ? all.reduce((sum, [, a]) => sum + a.mean, 0) : null
}

function valueOf(p: Point, of: string): number | null {
  if (of === 'efficiency' || of === 'loss') {
    const [into, out] = [watts(p, feeds), watts(p, drains)]
    if (into === null || out === null) return null
    return of === 'loss' ? into - out : into > 0 && out > 0 ? (100 * out) / into : null
  }
  const a = p.averages[of]
  return a && a.n > 0 ? a.mean : null
}

// asDrawn is a quantity of a point, less another column where that is asked for.
function asDrawn(p: Point): number | null {
  const y = valueOf(p, props.of)
  if (!props.less?.includes('.')) return y
  const from = valueOf(p, props.less)
  return y === null || from === null ? null : y - from
}

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
const lines = computed<Drawn[]>(() => {
  const found = new Map<number, [number, number][]>()
  for (const p of props.title ? [] : props.points) {
    const x = valueOf(p, props.by)
    const y = asDrawn(p)
    if (x === null || y === null) continue
    const key = props.per ? (p.place[props.per] ?? 0) : 0
    found.set(key, [...(found.get(key) ?? []), [x, y]])
  }
  const named = (key: number) => (props.per ? `${fixed(key, 0)} ${unitOf(props.per)}` : words(props.of))
  return [
    ...[...found.entries()]
      .sort((a, b) => a[0] - b[0])
      .map(([key, data]) => ({ name: named(key), data: deviating(data), dots: true })),
    ...(props.played ?? [])
      .filter((c) => c.of === props.of && c.by === props.by && (c.per ?? '') === (props.per ?? ''))
      .filter((c) => (c.less ?? '') === (props.less ?? '') && c.title === props.title)
      .map((c) => ({ name: c.label, data: deviating(c.x.map((x, k) => [x, c.y[k]!])), dots: false })),
  ]
})

const dashes: (string | number[])[] = ['solid', [7, 3], [2, 3], [9, 3, 2, 3]]
const symbols = ['circle', 'triangle', 'rect', 'diamond']

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const colors = [t.volts, t.amps, t.watts, t.celsius]
  const text = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const axis = {
    type: 'value' as const,
    scale: true,
    axisLabel: text,
    nameTextStyle: text,
    axisLine: { lineStyle: { color: t.line } },
    splitLine: { lineStyle: { color: t.line } },
  }
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: { left: 64, right: 20, top: 34, bottom: 44 },
    legend: { top: 0, right: 4, itemWidth: 26, textStyle: { color: t.muted, fontSize: 11 } },
    tooltip: {
      trigger: 'item',
      backgroundColor: t.raised,
      borderColor: t.line,
      textStyle: { color: t.ink, fontSize: 12 },
      formatter: (raw: unknown) => {
        const p = raw as { seriesName: string; value: [number, number] }
        const decimals = quantityOf(props.of) === 'volts' ? 4 : 2
        const by = `${words(props.by)} ${fixed(p.value[0], 3)} ${unit(props.by)}`
        return `${p.seriesName}<br>${by}<br><b>${fixed(p.value[1], decimals)}</b> ${unit(props.of)}`
      },
    },
    xAxis: {
      ...axis,
      name: `${words(props.by)} (${unit(props.by)})`,
      nameLocation: 'middle',
      nameGap: 28,
      splitLine: { show: false },
    },
    yAxis: {
      ...axis,
      name: `${shown.value} (${unit(props.of)})`,
      nameTextStyle: { ...text, align: 'left', padding: [0, 0, 0, -54] },
    },
    series: lines.value.map(({ name, data, dots }, i) => ({
      type: 'line',
      name,
      data,
      symbol: dots ? symbols[i % 4] : 'none',
      symbolSize: 6,
      lineStyle: { width: 1.6, type: dashes[i % 4], color: colors[i % 4] },
      itemStyle: { color: colors[i % 4] },
    })) as Option['series'],
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
