<script setup lang="ts">
import { computed, ref } from 'vue'
import { useTheme } from 'vuetify'

import type { FigureTable } from '../api'
import { type Option, palette, VChart } from '../parts/chart'
import { fixed, unitOf } from '../parts/format'
import { saveCSV, useSaving } from '../parts/saving'
import { body, contour, finely, levels, surfaceOf } from './surface'

// An efficiency map over line and load: as a map with contours, a dot at every place that was measured.
const props = defineProps<{ table: FigureTable; title: string; name: string }>()
const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const height = 260

const surface = computed(() => surfaceOf(props.table.rows))
const words = (column: string) => column.replace('.', ' ').replace(/^./, (c) => c.toUpperCase())
const columns = computed(() => props.table.columns.map((c) => c.name))

const mix = (low: string, high: string, share: number) => {
  const part = (hex: string, k: number) => parseInt(hex.slice(1 + 2 * k, 3 + 2 * k), 16)
  const channel = (k: number) => Math.round(part(low, k) + share * (part(high, k) - part(low, k)))
  return `rgb(${channel(0)}, ${channel(1)}, ${channel(2)})`
}

interface Drawing {
  value(k: number): number
  coord(at: [number, number]): [number, number]
}

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const s = surface.value
  if (!s) return {}
  const dark = theme.global.current.value.dark
  const [least, most] = dark ? ['#26302f', '#3f8f84'] : ['#f6ecd8', '#76bcae']
  const fine = finely(s, 96, 60)
  const extent = body(fine) ?? [0, 1]
  const text = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const axis = (name: string, values: number[]) => ({
    type: 'value' as const,
    min: values[0],
    max: values.at(-1),
    name: `${words(name)} (${unitOf(name)})`,
    axisLabel: text,
    nameTextStyle: text,
    axisLine: { lineStyle: { color: t.line } },
    splitLine: { show: false },
  })
  const cells: [number, number, number, number, number][] = []
  for (let i = 0; i + 1 < fine.y.length; i++)
    for (let j = 0; j + 1 < fine.x.length; j++) {
      const z = fine.z[i]![j]
      if (z !== null && z !== undefined) cells.push([fine.x[j]!, fine.y[i]!, fine.x[j + 1]!, fine.y[i + 1]!, z])
    }
  // Each contour has its level in its middle, unless another one is told right there.
  const told: [number, number][] = []
  const [wide, high] = [fine.x.at(-1)! - fine.x[0]!, fine.y.at(-1)! - fine.y[0]!]
  const pieces = levels(extent)
    .reverse()
    .flatMap((level) =>
      contour(fine, level).map((piece, k, all) => {
        const [x, y] = piece
        const here =
          k === Math.floor(all.length / 2) &&
          !told.some(([x2, y2]) => Math.abs(x - x2) < 0.1 * wide && Math.abs(y - y2) < 0.1 * high)
        if (here) told.push([x, y])
        return [...piece, level, here ? 1 : 0]
      }),
    )
  const measured = s.line.flatMap((line, i) =>
    s.load.map((load, j) => [load, line, s.at[i]![j]]).filter((p) => p[2] !== null),
  )
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: { left: 64, right: 20, top: 34, bottom: 44 },
    tooltip: {
      trigger: 'item',
      backgroundColor: t.raised,
      borderColor: t.line,
      textStyle: { color: t.ink, fontSize: 12 },
      formatter: (raw: unknown) => {
        const [load, line, z] = (raw as { value: [number, number, number] }).value
        const [by, per] = [columns.value[1] ?? '', columns.value[0] ?? '']
        return `${fixed(line, 2)} ${unitOf(per)}, ${fixed(load, 3)} ${unitOf(by)}<br><b>${fixed(z, 2)}</b> %`
      },
    },
    xAxis: { ...axis(columns.value[1] ?? '', s.load), nameLocation: 'middle', nameGap: 28 },
    yAxis: {
      ...axis(columns.value[0] ?? '', s.line),
      nameTextStyle: { ...text, align: 'left', padding: [0, 0, 0, -54] },
    },
    series: [
      {
        type: 'custom',
        silent: true,
        data: cells,
        renderItem: (_: unknown, raw: unknown) => {
          const d = raw as Drawing
          const [x, y] = d.coord([d.value(0), d.value(3)])
          const [x2, y2] = d.coord([d.value(2), d.value(1)])
          const share = Math.min(Math.max((d.value(4) - extent[0]) / (extent[1] - extent[0] || 1), 0), 1)
          return {
            type: 'rect',
            shape: { x, y, width: x2 - x + 0.7, height: y2 - y + 0.7 },
            style: { fill: mix(least!, most!, share) },
          }
        },
      },
      {
        type: 'custom',
        silent: true,
        data: pieces,
        renderItem: (_: unknown, raw: unknown) => {
          const d = raw as Drawing
          const [x1, y1] = d.coord([d.value(0), d.value(1)])
          const [x2, y2] = d.coord([d.value(2), d.value(3)])
          const line = { type: 'line', shape: { x1, y1, x2, y2 }, style: { stroke: t.ink, lineWidth: 0.8 } }
          if (!d.value(5)) return line
          const label = {
            type: 'text',
            x: (x1 + x2) / 2,
            y: (y1 + y2) / 2,
            style: {
              text: fixed(d.value(4), 1),
              fill: t.ink,
              fontSize: 10,
              align: 'center',
              verticalAlign: 'middle',
              backgroundColor: t.raised,
              padding: [1, 3],
              borderRadius: 2,
            },
          }
          return { type: 'group', children: [line, label] }
        },
      },
      {
        type: 'custom',
        data: measured,
        renderItem: (_: unknown, raw: unknown) => {
          const d = raw as Drawing
          const [cx, cy] = d.coord([d.value(0), d.value(1)])
          return { type: 'circle', shape: { cx, cy, r: 3 }, style: { fill: t.ink } }
        },
      },
    ] as unknown as Option['series'],
  }
})

const { savePNG, saveSVG } = useSaving(
  chart,
  option,
  () => ({ width: 800, height }),
  () => props.name,
)
function saveNumbers() {
  const header = props.table.columns.map((c) => `${c.name} [${c.unit}]`)
  saveCSV(
    props.name,
    header,
    props.table.rows.map((row) => row.map((x) => (x ?? '') as string | number)),
  )
}
</script>

<template>
  <div v-if="surface" class="panel" data-test="map">
    <div class="tools">
      <h2>{{ title }} (%)</h2>
      <span class="grow" />
      <v-btn size="small" @click="savePNG">PNG</v-btn>
      <v-btn size="small" @click="saveSVG">SVG</v-btn>
      <v-btn size="small" @click="saveNumbers">CSV</v-btn>
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
