<script setup lang="ts">
import { computed, ref } from 'vue'
import { useTheme } from 'vuetify'

import type { Overlay } from '../api'
import { beside, type Option, palette, save, spotShape, svgOf, pointedAt, VChart } from '../parts/chart'
import { short } from '../parts/format'
import { saveCSV } from '../parts/saving'

// Runs differ by lightness and by their label at the end of the curve; two sets by colour and dash as well.
const props = defineProps<{ overlay: Overlay }>()
const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const box = ref<HTMLElement | null>(null)
const height = 460

const withUnit = (label: string, unit: string) => (unit ? `${label} (${unit})` : label)
const hours = computed(() => props.overlay.xUnit === 's')
const x = (v: number) => (hours.value ? v / 3600 : v)
const mix = (from: number[], to: number[], share: number) =>
  `rgb(${from.map((c, i) => Math.round(c + share * ((to[i] ?? c) - c))).join(' ')})`

const option = computed<Option>(() => {
  const dark = theme.global.current.value.dark
  const t = palette(dark)
  const axisText = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const drawn = props.overlay.curves.filter((c) => c.drawn && c.x.length > 1)
  const groups = [...new Set(drawn.map((c) => c.group ?? ''))]
  const ramps = dark
    ? [
        [
          [120, 190, 235],
          [40, 90, 130],
        ],
        [
          [250, 160, 90],
          [150, 75, 25],
        ],
      ]
    : [
        [
          [0, 58, 92],
          [120, 185, 225],
        ],
        [
          [140, 55, 0],
          [240, 165, 110],
        ],
      ]
  const colour = (i: number) => {
    const c = drawn[i]!
    const g = Math.min(groups.indexOf(c.group ?? ''), 1)
    const same = drawn.filter((d) => (d.group ?? '') === (c.group ?? ''))
    const ramp = ramps[g]!
    return mix(ramp[0]!, ramp[1]!, same.length > 1 ? same.indexOf(c) / (same.length - 1) : 0)
  }
  // Labels at the ends are moved apart: the picture is about 380 px high.
  const ends = drawn.map((c) => c.y.at(-1) ?? 0)
  const all = drawn.flatMap((c) => [Math.min(...c.y), Math.max(...c.y)])
  const [low, high] = [Math.min(...all), Math.max(...all)]
  const place = (y: number) => (380 * (high - y)) / Math.max(high - low, 1e-9)
  const order = drawn
    .map((_, i) => i)
    .sort((a, b) => ends[b]! - ends[a]! || (drawn[a]!.x.at(-1) ?? 0) - (drawn[b]!.x.at(-1) ?? 0))
  const placed = new Map<number, number>()
  let free = 380 - 12 * (order.length - 1)
  for (const i of order) {
    const at = Math.max(Math.min(place(ends[i]!), 380), Math.min(free, place(ends[i]!)))
    placed.set(i, at)
    free = at + 12
  }
  // What would fall off the lower edge moves the others up.
  for (let k = order.length - 1, bottom = 384; k >= 0; k--, bottom -= 12) {
    const i = order[k]!
    placed.set(i, Math.min(placed.get(i)!, bottom))
  }
  const band = props.overlay.band
  const spots = props.overlay.spots ?? []
  const xs = drawn.flatMap((c) => c.x)
  const title = hours.value ? `${props.overlay.xLabel} (h)` : withUnit(props.overlay.xLabel, props.overlay.xUnit)
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: { left: 64, right: 96, top: 34, bottom: 48 },
    tooltip: {
      ...pointedAt(t),
      formatter: (raw: unknown) => {
        const items = (raw as { seriesName: string; value: [number, number]; marker: string }[]).filter(
          (p) => !p.seriesName.startsWith('band'),
        )
        return [
          `${short(items[0]?.value[0])} ${hours.value ? 'h' : props.overlay.xUnit}`,
          ...items
            .slice(0, 14)
            .map((p) => `${p.marker} ${p.seriesName}: <b>${short(p.value[1])}</b> ${props.overlay.yUnit}`),
          ...(items.length > 14 ? [`and ${items.length - 14} more`] : []),
        ].join('<br>')
      },
    },
    xAxis: {
      type: 'value',
      name: title,
      nameLocation: 'middle',
      nameGap: 30,
      nameTextStyle: axisText,
      scale: true,
      axisLine: { lineStyle: { color: t.line } },
      axisLabel: { ...axisText, showMaxLabel: false, formatter: (v: number) => String(Number(v.toPrecision(4))) },
      splitLine: { show: false },
      min: 'dataMin',
      max: 'dataMax',
    },
    yAxis: {
      type: 'value',
      scale: true,
      name: withUnit(props.overlay.yLabel, props.overlay.yUnit),
      nameTextStyle: { ...axisText, align: 'left', padding: [0, 0, 0, -54] },
      nameGap: 12,
      axisLabel: axisText,
      splitLine: { lineStyle: { color: t.line } },
    },
    dataZoom: [{ type: 'inside', filterMode: 'none' }],
    series: [
      ...(band
        ? [
            {
              type: 'line' as const,
              name: 'band min',
              stack: 'band',
              data: band.x.map((v, i) => [x(v), band.min[i]!]),
              symbol: 'none',
              lineStyle: { opacity: 0 },
              silent: true,
            },
            {
              type: 'line' as const,
              name: 'band max',
              stack: 'band',
              data: band.x.map((v, i) => [x(v), band.max[i]! - band.min[i]!]),
              symbol: 'none',
              lineStyle: { opacity: 0 },
              areaStyle: { color: t.live, opacity: 0.22 },
              silent: true,
            },
          ]
        : []),
      ...drawn.map((c, i) => ({
        type: 'line' as const,
        name: c.label + (c.half === 'charge' ? ' charge' : ''),
        data: c.x.map((v, k) => [x(v), c.y[k]!]),
        symbol: 'none',
        emphasis: { focus: 'series' as const },
        lineStyle: {
          width: 1.4,
          color: colour(i),
          type: groups.indexOf(c.group ?? '') > 0 ? [7, 3] : ('solid' as const),
        },
        itemStyle: { color: colour(i) },
        endLabel: {
          show: true,
          formatter: () => c.label,
          color: t.muted,
          fontSize: 10,
          distance: 6,
          offset: [0, Math.round(placed.get(i)! - place(ends[i]!))],
        },
      })),
      ...spots.map((s, k) => ({
        type: 'line' as const,
        name: `${s.label} of ${s.serial}`,
        data: [[x(s.x), s.y]],
        symbol: spotShape,
        symbolSize: 12,
        itemStyle: { color: t.ink, borderColor: t.ink, borderWidth: 2 },
        label: {
          show: spots.length <= 6,
          formatter: [
            s.label,
            `${s.serial}:`,
            short(s.y),
            props.overlay.yUnit,
            'at',
            short(s.x),
            props.overlay.xUnit,
          ].join(' '),
          ...beside(k, s.x, xs),
          backgroundColor: t.surface,
          padding: [1, 4] as [number, number],
          color: t.ink,
          fontSize: 11,
        },
        z: 5,
      })),
    ] as Option['series'],
  }
})

function picture(kind: 'png' | 'svg') {
  if (kind === 'png') {
    const url = chart.value?.getDataURL({
      type: 'png',
      pixelRatio: 2,
      backgroundColor: palette(theme.global.current.value.dark).surface,
    })
    if (url) save('overlay.png', url)
    return
  }
  save(
    'overlay.svg',
    'data:image/svg+xml;charset=utf-8,' +
      encodeURIComponent(svgOf(option.value, box.value?.clientWidth ?? 1000, height)),
  )
}
function data() {
  const rows = props.overlay.curves.flatMap((c) => c.x.map((v, k) => [c.label, c.run, c.half, v, c.y[k]!]))
  saveCSV('overlay', ['label', 'run', 'half', 'x', 'y'], rows)
}
defineExpose({ picture, data })
</script>

<template>
  <div ref="box" data-test="overlay-chart">
    <VChart
      ref="chart"
      :option="option"
      :style="{ height: `${height}px` }"
      autoresize
      :update-options="{ notMerge: true }"
    />
  </div>
</template>
