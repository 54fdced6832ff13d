<script setup lang="ts">
import { computed, ref } from 'vue'
import { useDisplay, useTheme } from 'vuetify'

import type { Mark } from '../api'
import { deviating, liveEnd, panelsOf, type Rated, type Reference, type Sharing } from './panels'
import { dashes, fading, type Option, palette, quantityColor, pointedAt, VChart } from './chart'
import { between } from './foretold'
import { paced } from './paced'
import { useSaving } from './saving'
import { clock, many, partOf, quantityOf, reading, seatOf, unitOf } from './format'

// A foretold line is what the rehearsal gave.
export interface Line {
  column: string
  data: [number, number | null][]
  foretold?: boolean
}

const props = defineProps<{
  lines: Line[]
  from: number
  to: number
  // view is the visible part; absent while the whole is shown.
  view?: [number, number]
  marks?: Mark[]
  cursors?: [number | null, number | null]
  // deviations are stretches in which a column left what was foretold.
  deviations?: { column?: string; t0: number; t1: number }[]
  live?: boolean
  // sharing says which traces share a panel; absent: those that can be seen beside each other. reference is what they
  // are drawn less of.
  sharing?: Sharing
  reference?: Reference
  rated?: Rated
  // until is how far the axis of a live picture reaches beyond now, where something is foretold.
  until?: number
  name: string
}>()
const emit = defineEmits<{ view: [from: number, to: number]; pick: [t: number, second: boolean] }>()

const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const box = ref<HTMLElement | null>(null)

const panelHeight = 165
const panelGap = 34
const visible = computed<[number, number]>(() => props.view ?? [props.from, props.to])
const drawn = computed(() => deviating(props.lines, visible.value, props.reference ?? '', props.rated ?? {}))
// What is drawn, in words.
const label = computed(() => {
  const columns = drawn.value.filter((l) => !l.foretold).map((l) => l.column)
  return `Curves of ${columns.join(', ')}: ${panels.value.map((p) => p.title).join('; ')}`
})
// A live picture keeps its panels while it grows.
const panels = computed(() =>
  panelsOf(drawn.value, visible.value, props.sharing ?? (props.live ? 'together' : 'auto'), props.reference ?? ''),
)
const panelOf = (column: string) =>
  Math.max(
    panels.value.findIndex((p) => p.columns.includes(column)),
    0,
  )
// A legend of many traces takes several lines; on a phone three traces fill one.
const { width } = useDisplay()
const head = computed(() => {
  const entries = new Set(props.lines.map((l) => (l.foretold ? 'rehearsed' : l.column))).size
  return 16 * Math.ceil(entries / (width.value < 600 ? 3 : 5)) + 18
})
const height = computed(() => panels.value.length * (panelHeight + panelGap) + head.value + 12)

function verticals(): object[] {
  const t = palette(theme.global.current.value.dark)
  const stages = (props.marks ?? [])
    .filter((m) => m.kind === 'stage' || m.kind === 'guard')
    .map((m) => ({
      xAxis: m.t,
      label: { show: false },
      lineStyle: { color: m.kind === 'guard' ? t.fail : t.line, type: 'solid', width: 1 },
    }))
  const cursors = (props.cursors ?? []).flatMap((x, i) =>
    x === null
      ? []
      : [
          {
            xAxis: x,
            label: { show: true, formatter: i === 0 ? 'A' : 'B', color: t.ink, fontWeight: 650, position: 'end' },
            lineStyle: { color: t.ink, type: i === 0 ? 'solid' : 'dashed', width: 1.2 },
          },
        ],
  )
  const now = props.live
    ? [
        {
          xAxis: props.to,
          label: { show: true, formatter: 'now', color: t.live, position: 'end' },
          lineStyle: { color: t.live, type: [3, 4] },
        },
      ]
    : []
  return [...stages, ...cursors, ...now]
}

// spells are the states in which somebody said that the unit was, one after the other, each from when it was.
const spells = computed(() => {
  const said = (props.marks ?? [])
    .flatMap((m) => (m.about?.is === 'state' ? [{ name: String(m.about.state), from: Number(m.about.at) }] : []))
    .sort((a, b) => a.from - b.from)
  return said.map((s, i) => ({ ...s, to: said[i + 1]?.from ?? props.to }))
})

// namedOn is the line that carries the states: one of amps, for they are about what is taken.
const namedOn = computed(
  () => (drawn.value.find((l) => !l.foretold && quantityOf(l.column) === 'amps') ?? drawn.value[0])?.column,
)

function spellAreas(): object[] {
  const t = palette(theme.global.current.value.dark)
  return spells.value.map((s, i) => [
    {
      name: s.name,
      xAxis: s.from,
      itemStyle: { color: t.ink, opacity: i % 2 ? 0.07 : 0 },
      label: { show: true, position: 'insideTop', color: t.ink, fontSize: 11, overflow: 'truncate' },
    },
    { xAxis: s.to },
  ])
}

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const [viewFrom, viewTo] = props.view ?? [props.from, props.to]
  const span = Math.max(viewTo - viewFrom, 1e-6)
  const axisText = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const qs = panels.value
  const end = props.live ? liveEnd(props.from, props.to, props.until) : Math.max(props.to, props.from + 1e-3)
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    legend: {
      top: 0,
      right: 8,
      itemWidth: 26,
      itemHeight: 8,
      icon: undefined,
      textStyle: { color: t.muted, fontSize: 11 },
      data: [
        ...props.lines.filter((l) => !l.foretold).map((l) => l.column),
        ...(props.lines.some((l) => l.foretold) ? ['rehearsed'] : []),
      ],
    },
    grid: qs.map((_, i) => ({
      left: 62,
      right: 26,
      top: head.value + i * (panelHeight + panelGap),
      height: panelHeight,
    })),
    axisPointer: { link: [{ xAxisIndex: 'all' }], lineStyle: { color: t.muted } },
    tooltip: {
      ...pointedAt(t),
      formatter: (raw: unknown) => {
        const items = raw as { axisValue: number; seriesName: string; value: [number, number | null]; marker: string }[]
        const rows = items
          .filter((p) => p.seriesName !== 'rehearsed')
          .map(
            (p) => `${p.marker} ${p.seriesName}: <b>${reading(p.seriesName, p.value[1])}</b> ${unitOf(p.seriesName)}`,
          )
        return [clock(items[0]?.axisValue ?? 0, Math.min(span, 4)), ...new Set(rows)].join('<br>')
      },
    },
    xAxis: qs.map((_, i) => ({
      type: 'value',
      gridIndex: i,
      min: props.from,
      max: end,
      splitLine: { show: false },
      axisLine: { lineStyle: { color: t.line } },
      axisTick: { lineStyle: { color: t.line } },
      axisLabel: {
        ...axisText,
        show: i === qs.length - 1,
        hideOverlap: true,
        formatter: (x: number) => clock(x, span),
      },
      axisPointer: { label: { show: false } },
    })),
    yAxis: qs.map((q, i) => ({
      type: 'value',
      gridIndex: i,
      scale: true,
      name: q.title,
      nameTextStyle: { ...axisText, align: 'left', padding: [0, 0, 0, -52] },
      nameGap: 10,
      splitNumber: 4,
      splitLine: { lineStyle: { color: t.line } },
      axisLabel: { ...axisText, formatter: many },
    })),
    dataZoom: props.live
      ? []
      : [
          {
            type: 'inside',
            xAxisIndex: qs.map((_, i) => i),
            filterMode: 'none',
            startValue: viewFrom,
            endValue: viewTo,
            minValueSpan: 0.05,
            zoomOnMouseWheel: true,
            moveOnMouseMove: true,
          },
        ],
    series: [...drawn.value]
      .sort((a, b) => Number(b.foretold ?? false) - Number(a.foretold ?? false))
      .map((l) => ({
        type: 'line',
        name: l.foretold ? 'rehearsed' : l.column,
        // What is foretold for days is cut where the picture of now ends: dashes are drawn beyond it too, one by one.
        data: l.foretold && props.live ? between(l.data, props.from, end) : l.data,
        symbol: 'none',
        connectNulls: false,
        sampling: undefined,
        xAxisIndex: panelOf(l.column),
        yAxisIndex: panelOf(l.column),
        lineStyle: l.foretold
          ? { width: 1.2, color: quantityColor(quantityOf(l.column), t), type: [2, 3], opacity: 0.75 }
          : {
              width: 1.6,
              color: quantityColor(quantityOf(l.column), t),
              type: dashes(seatOf(l.column)),
              opacity: fading(partOf(l.column)),
            },
        itemStyle: { color: l.foretold ? t.muted : quantityColor(quantityOf(l.column), t) },
        emphasis: { disabled: true },
        markLine: l.foretold ? undefined : { silent: true, symbol: 'none', animation: false, data: verticals() },
        markArea: l.foretold
          ? undefined
          : {
              silent: true,
              animation: false,
              itemStyle: { color: t.fail, opacity: 0.14 },
              data: [
                ...(props.deviations ?? [])
                  .filter((d) => d.column === l.column)
                  .map((d) => [{ xAxis: d.t0 }, { xAxis: d.t1 }]),
                ...(l.column === namedOn.value ? spellAreas() : []),
              ],
            },
      })) as Option['series'],
  }
})

// A live picture is drawn anew at most this often, ms: frames come faster than an eye needs them.
const redraw = 200
const shown = paced(option, () => (props.live ? redraw : 0))

// The chart's events are typed loosely; what they carry is read field by field.
const numberOf = (o: object, key: string): number | undefined => {
  const x = (o as Record<string, unknown>)[key]
  return typeof x === 'number' ? x : undefined
}

function zoomed(e: { batch?: object[] }) {
  const payload = e.batch?.[0] ?? e
  const z = { start: numberOf(payload, 'start'), end: numberOf(payload, 'end') }
  if (z.start === undefined || z.end === undefined) return
  const length = props.to - props.from
  emit('view', props.from + (length * z.start) / 100, props.from + (length * z.end) / 100)
}

let pressedAt = 0
function clicked(e: { offsetX: number; offsetY: number; event: unknown }) {
  if (!(e.event instanceof MouseEvent)) return
  // A drag pans; only a click that stayed in place sets a cursor.
  if (Math.abs(e.event.clientX - pressedAt) > 4 || props.live) return
  const at = (chart.value as unknown as { convertFromPixel(f: object, v: number[]): number[] }).convertFromPixel(
    { gridIndex: 0 },
    [e.offsetX, e.offsetY],
  )
  if (at?.[0] !== undefined && at[0] >= props.from && at[0] <= props.to) emit('pick', at[0], e.event.shiftKey)
}

function key(e: KeyboardEvent) {
  if (props.live) return
  const [a, b] = props.view ?? [props.from, props.to]
  const span = b - a
  const middle = (a + b) / 2
  const step = e.key === 'ArrowLeft' ? -0.01 : 0.01
  if (e.key === 'ArrowLeft' || e.key === 'ArrowRight') {
    const now = props.cursors?.[e.shiftKey ? 1 : 0] ?? middle
    emit('pick', Math.min(Math.max(now + step * span, props.from), props.to), e.shiftKey)
  } else if (e.key === '+') emit('view', middle - span / 4, middle + span / 4)
  else if (e.key === '-') emit('view', Math.max(props.from, middle - span), Math.min(props.to, middle + span))
  else if (e.key === '0') emit('view', props.from, props.to)
  else return
  e.preventDefault()
}

const { savePNG, saveSVG } = useSaving(
  chart,
  option,
  () => ({ width: box.value?.clientWidth ?? 900, height: height.value }),
  () => props.name,
)
defineExpose({ savePNG, saveSVG })
</script>

<template>
  <div
    ref="box"
    class="chart"
    tabindex="0"
    role="img"
    :aria-label="label"
    @keydown="key"
    @pointerdown.capture="pressedAt = $event.clientX"
    @dblclick="emit('view', from, to)"
  >
    <VChart
      ref="chart"
      :option="shown"
      :style="{ height: `${height}px` }"
      autoresize
      :update-options="{ replaceMerge: ['series', 'grid', 'xAxis', 'yAxis', 'dataZoom'] }"
      @datazoom="zoomed"
      @zr:click="clicked"
    />
  </div>
</template>

<style scoped>
.chart {
  min-width: 0;
}
</style>
