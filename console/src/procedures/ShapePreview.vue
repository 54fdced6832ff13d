<script setup lang="ts">
import { computed, nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import { useTheme } from 'vuetify'

import type { OutlineStage, OutlineTrack } from '../api'
import { type Option, palette, quantityColor, pointedAt, VChart } from '../parts/chart'
import { fieldsOf, movable, timeText, withField, withPhrase } from './document'
import { clock, quantityOf } from '../parts/format'

// A shape as it will be played. Ends of segments that are written as numbers can be drawn: up and down for the
// level, left and right for the length; with the keyboard by the arrow keys.
const props = defineProps<{ stage: OutlineStage; track: OutlineTrack }>()
const text = defineModel<string>({ required: true })
const theme = useTheme()
const chart = ref<InstanceType<typeof VChart> | null>(null)
const box = ref<HTMLElement | null>(null)

interface Handle {
  item: number
  t0: number
  t1: number
  level: number
  phrase: string
  can: { level: boolean; time: boolean }
}
const phrases = computed(() =>
  fieldsOf(text.value, props.stage.line).filter(
    (f) => f.path[0] === 'play' && f.path[1] === props.track.column && typeof f.path[2] === 'number',
  ),
)
const handles = computed<Handle[]>(() =>
  props.track.handles.flatMap((h) => {
    const phrase = phrases.value.find((f) => f.path[2] === h.item)?.text
    if (phrase === undefined) return []
    const can = movable(phrase)
    return can.level || can.time ? [{ ...h, phrase, can }] : []
  }),
)
const drag = ref<{ index: number; t: number; level: number } | null>(null)
const positions = ref<{ x: number; y: number }[]>([])
const end = computed(() => props.track.knots.at(-1)?.t ?? 1)

const option = computed<Option>(() => {
  const t = palette(theme.global.current.value.dark)
  const axisText = { color: t.muted, fontFamily: 'Inter Variable', fontSize: 11 }
  const room = Math.max((props.track.high - props.track.low) * 0.12, Math.abs(props.track.high) * 0.02, 0.05)
  return {
    animation: false,
    textStyle: { fontFamily: 'Inter Variable' },
    grid: { left: 58, right: 22, top: 28, bottom: 28 },
    tooltip: {
      ...pointedAt(t),
      formatter: (raw: unknown) => {
        const p = (raw as { value: [number, number] }[])[0]
        return p ? `${clock(p.value[0], end.value)}: <b>${p.value[1].toFixed(3)}</b> ${props.track.unit}` : ''
      },
    },
    xAxis: {
      type: 'value',
      min: 0,
      max: end.value,
      axisLine: { lineStyle: { color: t.line } },
      axisLabel: { ...axisText, formatter: (x: number) => clock(x, end.value), hideOverlap: true },
      splitLine: { show: false },
    },
    yAxis: {
      type: 'value',
      min: Number((props.track.low - room).toPrecision(3)),
      max: Number((props.track.high + room).toPrecision(3)),
      name: `${props.track.column} (${props.track.unit})`,
      nameTextStyle: { ...axisText, align: 'left', padding: [0, 0, 0, -50] },
      nameGap: 10,
      axisLabel: axisText,
      splitLine: { lineStyle: { color: t.line } },
      splitNumber: 4,
    },
    series: [
      {
        type: 'line',
        data: props.track.knots.map((k) => [k.t, k.level]),
        symbol: 'none',
        lineStyle: { width: 1.8, color: quantityColor(quantityOf(props.track.column), t) },
      },
    ],
  }
})

type Converting = {
  convertToPixel(f: object, v: number[]): number[]
  convertFromPixel(f: object, v: number[]): number[]
}
const converting = () => chart.value as unknown as Converting | null
const axes = { xAxisIndex: 0, yAxisIndex: 0 }

function placeHandles() {
  const c = converting()
  if (!c) return
  positions.value = handles.value.map((h, i) => {
    const at = drag.value?.index === i ? [drag.value.t, drag.value.level] : [h.t1, h.level]
    const [x, y] = c.convertToPixel(axes, at as number[]) ?? []
    return { x: x ?? -99, y: y ?? -99 }
  })
}
watch([handles, drag, option], () => void nextTick(placeHandles), { deep: true })
const observer = new ResizeObserver(() => requestAnimationFrame(placeHandles))
onMounted(() => {
  if (box.value) observer.observe(box.value)
  window.setTimeout(placeHandles, 60)
})
onUnmounted(() => observer.disconnect())

// apply writes a new end of a segment into the text.
function apply(h: Handle, t: number, level: number) {
  const field = phrases.value.find((f) => f.path[2] === h.item)
  if (!field) return
  const height = Math.max(props.track.high - props.track.low, 1e-3)
  const digits = Math.max(0, 2 - Math.floor(Math.log10(height)))
  const change: { level?: string; time?: string } = {}
  if (h.can.level && Math.abs(level - h.level) > height * 1e-3)
    change.level = `${Number(level.toFixed(Math.min(digits, 6)))} ${props.track.unit}`
  if (h.can.time && Math.abs(t - h.t1) > 1e-3 * (end.value || 1)) change.time = timeText(Math.max(t - h.t0, 1e-3))
  const next = withPhrase(field.text, change)
  if (next !== field.text) text.value = withField(text.value, field, next)
}

function start(i: number, e: PointerEvent) {
  const h = handles.value[i]
  if (!h) return
  ;(e.target as HTMLElement).setPointerCapture(e.pointerId)
  drag.value = { index: i, t: h.t1, level: h.level }
}
function move(e: PointerEvent) {
  const h = drag.value ? handles.value[drag.value.index] : undefined
  const rect = box.value?.getBoundingClientRect()
  const c = converting()
  if (!drag.value || !h || !rect || !c) return
  const [t, level] = c.convertFromPixel(axes, [e.clientX - rect.left, e.clientY - rect.top])
  drag.value = {
    ...drag.value,
    t: h.can.time ? Math.max(t ?? h.t1, h.t0 + 1e-3) : h.t1,
    level: h.can.level ? (level ?? h.level) : h.level,
  }
}
function drop() {
  const d = drag.value
  const h = d ? handles.value[d.index] : undefined
  drag.value = null
  if (d && h) apply(h, d.t, d.level)
}
function key(i: number, e: KeyboardEvent) {
  const h = handles.value[i]
  const step: Record<string, [number, number]> = {
    ArrowUp: [0, 0.02],
    ArrowDown: [0, -0.02],
    ArrowRight: [0.05, 0],
    ArrowLeft: [-0.05, 0],
  }
  const by = step[e.key]
  if (!h || !by) return
  e.preventDefault()
  apply(h, h.t1 + by[0] * (h.t1 - h.t0), h.level + by[1] * Math.max(props.track.high - props.track.low, 1))
}
const told = (s: number) => (s < 1e-3 ? `${(s * 1e6).toFixed(0)} µs` : timeText(s))
</script>

<template>
  <div>
    <div ref="box" class="box" @pointermove="move" @pointerup="drop">
      <VChart ref="chart" :option="option" style="height: 220px" autoresize @finished="placeHandles" />
      <button
        v-for="(h, i) in handles"
        :key="i"
        type="button"
        class="handle"
        data-test="handle"
        :style="{ left: `${positions[i]?.x ?? -99}px`, top: `${positions[i]?.y ?? -99}px` }"
        :aria-label="`End of ${h.phrase}; arrow keys change it`"
        :title="h.phrase"
        @pointerdown.prevent="start(i, $event)"
        @keydown="key(i, $event)"
      />
    </div>
    <p class="muted facts">
      {{ track.column }}: {{ track.low.toFixed(2) }} to {{ track.high.toFixed(2) }} {{ track.unit }} · steepest
      {{ track.steepest ? `${Number(track.steepest.toPrecision(3))} ${track.unit}/s` : 'jump' }} · shortest part
      {{ told(track.shortest) }} · {{ told(end) }} long<template v-if="handles.length">
        · drag the dots to change levels and times</template
      >
    </p>
  </div>
</template>

<style scoped>
.box {
  position: relative;
  touch-action: none;
}
.handle {
  position: absolute;
  width: 14px;
  height: 14px;
  margin: -7px 0 0 -7px;
  border-radius: 50%;
  background: var(--surface);
  border: 2.5px solid var(--live);
  cursor: grab;
}
.handle:focus-visible {
  outline: 2px solid var(--ink);
  outline-offset: 2px;
}
.facts {
  font-size: 12px;
  margin: 2px 0 0;
}
</style>
