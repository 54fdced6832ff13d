<script setup lang="ts">
import { computed, ref } from 'vue'
import { useTheme } from 'vuetify'

import { type Option, palette, pointedAt, VChart } from '../parts/chart'
import { useSaving } from '../parts/saving'
import { onAxis, prefixed, prefixOf } from '../parts/prefixed'
import type { Shown } from './captures'

// The channels of captures over the time from the trigger: a panel for each channel, and in it a line for each capture
// that is shown.
const props = defineProps<{
  shown: Shown[]
  from: number
  to: number
  view?: [number, number]
  cursors: [number | null, number | null]
  name: string
}>()
const emit = defineEmits<{ view: [from: number, to: number]; pick: [t: number, second: boolean] }>()

const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const box = ref<HTMLElement | null>(null)
const panelHeight = 150
const panelGap = 36
const head = 26

const channels = computed(() => [
  ...new Map(props.shown.flatMap((s) => s.traces.map((t) => [t.name, t.unit] as const))).entries(),
])
const height = computed(() => channels.value.length * (panelHeight + panelGap) + head + 8)
const visible = computed<[number, number]>(() => props.view ?? [props.from, props.to])
const dashes: ('solid' | number[])[] = ['solid', [7, 3], [2, 3], [9, 3, 2, 3]]

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const text = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const [a, b] = visible.value
  const most = Math.max(Math.abs(a), Math.abs(b))
  const colour = (unit: string) => (unit === 'A' ? t.amps : t.volts)
  const cursors = props.cursors.flatMap((x, i) =>
    x === null
      ? []
      : [
          {
            xAxis: x,
            label: {
              show: true,
              formatter: i === 0 ? 'A' : 'B',
              color: t.ink,
              fontWeight: 650,
              position: 'end' as const,
            },
            lineStyle: { color: t.ink, type: (i === 0 ? 'solid' : 'dashed') as 'solid' | 'dashed', width: 1.2 },
          },
        ],
  )
  const trigger = { xAxis: 0, label: { show: false }, lineStyle: { color: t.live, type: 'solid' as const, width: 1 } }
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    legend:
      props.shown.length > 1
        ? { show: true, top: 0, right: 8, itemWidth: 26, itemHeight: 8, textStyle: { color: t.muted, fontSize: 11 } }
        : { show: false },
    grid: channels.value.map((_, i) => ({
      left: 66,
      right: 26,
      top: head + i * (panelHeight + panelGap),
      height: panelHeight,
    })),
    axisPointer: { link: [{ xAxisIndex: 'all' }], lineStyle: { color: t.muted } },
    tooltip: {
      ...pointedAt(t),
      formatter: (raw: unknown) => {
        const items = raw as { axisValue: number; seriesId: string; seriesName: string; value: [number, number] }[]
        const rows = items.map((p) => {
          const [name, unit] = p.seriesId.split('\u0000')
          const of = props.shown.length > 1 ? `${name}, ${p.seriesName}` : name
          return `${of}: <b>${prefixed(p.value[1], unit ?? '')}</b>`
        })
        return [prefixed(items[0]?.axisValue ?? 0, 's'), ...new Set(rows)].join('<br>')
      },
    },
    xAxis: channels.value.map((_, i) => ({
      type: 'value' as const,
      gridIndex: i,
      min: props.from,
      max: props.to,
      splitLine: { show: false },
      axisLine: { onZero: false, lineStyle: { color: t.line } },
      axisTick: { lineStyle: { color: t.line } },
      name: i === channels.value.length - 1 ? `${prefixOf(most)[1]}s from the trigger` : '',
      nameLocation: 'middle' as const,
      nameGap: 24,
      nameTextStyle: text,
      axisLabel: {
        ...text,
        show: i === channels.value.length - 1,
        hideOverlap: true,
        formatter: (x: number) => onAxis(x, most, b - a),
      },
      axisPointer: { label: { show: false } },
    })),
    yAxis: channels.value.map(([name, unit], i) => ({
      type: 'value' as const,
      gridIndex: i,
      scale: true,
      name: `${name} (${unit})`,
      nameTextStyle: { ...text, align: 'left' as const, padding: [0, 0, 0, -56] },
      nameGap: 10,
      splitNumber: 4,
      axisLine: { show: false },
      splitLine: { lineStyle: { color: t.line } },
      axisLabel: text,
    })),
    dataZoom: [
      {
        type: 'inside',
        xAxisIndex: channels.value.map((_, i) => i),
        filterMode: 'none',
        startValue: a,
        endValue: b,
        zoomOnMouseWheel: true,
        moveOnMouseMove: true,
      },
    ],
    series: props.shown.flatMap((s, k) =>
      s.traces.map((trace) => {
        const i = channels.value.findIndex(([name]) => name === trace.name)
        return {
          id: `${trace.name}\u0000${trace.unit}\u0000${s.index}`,
          type: 'line' as const,
          name: s.label,
          data: trace.data,
          symbol: 'none',
          xAxisIndex: i,
          yAxisIndex: i,
          lineStyle: { width: 1.3, color: colour(trace.unit), type: dashes[k % 4], opacity: k === 0 ? 1 : 0.6 },
          itemStyle: { color: colour(trace.unit) },
          emphasis: { disabled: true },
          markLine:
            k === 0 ? { silent: true, symbol: 'none', animation: false, data: [trigger, ...cursors] } : undefined,
        }
      }),
    ) as Option['series'],
  }
})

const numberOf = (o: object, key: string): number | undefined => {
  const x = (o as Record<string, unknown>)[key]
  return typeof x === 'number' ? x : undefined
}
function zoomed(e: { batch?: object[] }) {
  const payload = e.batch?.[0] ?? e
  const start = numberOf(payload, 'start')
  const end = numberOf(payload, 'end')
  if (start === undefined || end === undefined) return
  const length = props.to - props.from
  emit('view', props.from + (length * start) / 100, props.from + (length * end) / 100)
}

let pressedAt = 0
function clicked(e: { offsetX: number; offsetY: number; event: unknown }) {
  if (!(e.event instanceof MouseEvent) || Math.abs(e.event.clientX - pressedAt) > 4) return
  const at = (chart.value as unknown as { convertFromPixel(f: object, v: number[]): number[] }).convertFromPixel(
    { gridIndex: 0 },
    [e.offsetX, e.offsetY],
  )
  if (at?.[0] !== undefined && at[0] >= props.from && at[0] <= props.to) emit('pick', at[0], e.event.shiftKey)
}

function key(e: KeyboardEvent) {
  const [a, b] = visible.value
  const span = b - a
  const middle = (a + b) / 2
  if (e.key === 'ArrowLeft' || e.key === 'ArrowRight') {
    const now = props.cursors[e.shiftKey ? 1 : 0] ?? middle
    const next = now + (e.key === 'ArrowLeft' ? -0.01 : 0.01) * span
    emit('pick', Math.min(Math.max(next, props.from), props.to), e.shiftKey)
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
    :aria-label="`Captured ${channels.map(([name]) => name).join(', ')}`"
    @keydown="key"
    @pointerdown.capture="pressedAt = $event.clientX"
    @dblclick="emit('view', from, to)"
  >
    <VChart
      ref="chart"
      :option="option"
      :style="{ height: `${height}px` }"
      autoresize
      :update-options="{ replaceMerge: ['series', 'grid', 'xAxis', 'yAxis'] }"
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
