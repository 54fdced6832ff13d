<script lang="ts">
// What a tile's miniature curve shows.
export type Shown = 'amps' | 'volts' | 'rated' | 'mean'
</script>

<script setup lang="ts">
import { computed } from 'vue'

import type { Bay } from '../api'
import { drains } from '../parts/catalogue'
import { columnsOf, rangeOf, seconds, short, timeOfDay } from '../parts/format'
import CoverNote from '../parts/CoverNote.vue'
import MiniCurve from './MiniCurve.vue'
import Readout from '../parts/Readout.vue'
import StageBar from './StageBar.vue'
import StateChip from '../parts/StateChip.vue'

const props = defineProps<{
  bay: Bay
  fresh: boolean
  curve: Record<'amps' | 'volts', (number | null)[]>
  shown: Shown
}>()

const live = computed(() => props.bay.state === 'live' || props.bay.state === 'ending')
// An idle bay shows how its last run came out, until it is made ready for the next.
const state = computed(() =>
  props.bay.state === 'idle' && props.bay.run?.outcome ? props.bay.run.outcome : props.bay.state,
)
const edge = computed(() => {
  if (props.bay.alarm) return 'fail'
  if (live.value) return 'live'
  return state.value === 'aborted' ? 'fail' : state.value
})
const output = computed(() => props.bay.seats.find((s) => drains(s.name))?.name ?? props.bay.seats[0]?.name ?? '')
const columns = computed(() => columnsOf(output.value, props.bay.readings).slice(0, 3))
// The curve, with what it says of itself: a deviation has a scale of its own, so its width is told.
const mini = computed(() => {
  if (props.shown === 'amps' || props.shown === 'volts') {
    const label = `${output.value} ${props.shown} over the last frames`
    return { values: props.curve[props.shown], color: `var(--${props.shown})`, label, said: '' }
  }
  const volts = props.curve.volts
  const present = volts.filter((x): x is number => x !== null)
  const mean = present.reduce((sum, x) => sum + x, 0) / present.length
  const from = props.shown === 'mean' ? mean : props.bay.rated?.[`${output.value}.volts`]
  if (from === undefined || !present.length)
    return { values: [], color: '', label: '', said: 'The nameplate rates no volts' }
  const values = volts.map((x) => (x === null ? null : x - from))
  const [low, high] = [Math.min(...present) - from, Math.max(...present) - from]
  const base = props.shown === 'mean' ? 'their mean' : `rated ${short(from)} V`
  const small = Math.max(Math.abs(low), Math.abs(high)) < 1
  const range = `${signed(low, small)} to ${signed(high, small)} ${small ? 'mV' : 'V'}`
  const said = `${output.value} volts ${range} from ${base}`
  return { values, color: 'var(--volts)', label: said, said }
})
const signed = (x: number, small: boolean) =>
  (x < 0 ? '−' : '+') + (small ? (1000 * Math.abs(x)).toFixed(1) : Math.abs(x).toFixed(3))
const value = (column: string) => (props.fresh ? props.bay.readings[column] : null)
const what = computed(() => {
  const p = props.bay.progress
  if (live.value && p) return `${p.name}${p.detail ? ' · ' + p.detail : ''}`
  return props.bay.run ? props.bay.run.procedure : 'No run yet'
})
const when = computed(() => {
  const left = props.bay.progress?.left ?? 0
  if (live.value) return left > 0 ? `${seconds(left)} to go` : ''
  if (props.bay.safeSince) return `safe since ${timeOfDay(props.bay.safeSince)}`
  return props.bay.run?.endedAt ? `finished ${timeOfDay(props.bay.run.endedAt)}` : ''
})
</script>

<template>
  <router-link class="tile" :class="edge" :to="{ name: 'bay', params: { bay: bay.name } }" :data-bay="bay.name">
    <div class="row">
      <span class="name">{{ bay.title }}</span><StateChip :state="bay.alarm ? 'alarm' : state" /><span class="grow" />
      <span class="muted">{{ bay.run ? `${bay.run.nameplate} ${bay.run.serial}` : '—' }}</span>
    </div>
    <div class="row read">
      <Readout v-for="c in columns" :key="c" :column="c" :value="value(c)" :range="rangeOf(c, bay.readings)" />
    </div>
    <CoverNote v-if="bay.cover" :cover="bay.cover" :fresh="fresh" />
    <p v-if="bay.alarm" class="alarm">{{ bay.alarm }}</p>
    <div v-else-if="mini.values.length > 1" class="mini">
      <span v-if="mini.said" class="said muted">{{ mini.said }}</span>
      <MiniCurve :values="mini.values" :color="mini.color" :label="mini.label" />
    </div>
    <div v-else class="empty muted">
      {{ mini.said && curve.volts.length ? mini.said : live ? 'Waiting for frames' : 'Clip a unit in and start a run' }}
    </div>
    <StageBar :bay="bay" />
    <div class="row muted">
      <span>{{ what }}</span><span class="grow" /><span class="nowrap">{{ when }}</span>
    </div>
  </router-link>
</template>

<style scoped>
.tile {
  background: var(--surface);
  border: 1px solid var(--line);
  border-radius: 10px;
  padding: 16px 18px;
  display: grid;
  gap: 10px;
  position: relative;
  overflow: hidden;
  color: var(--ink);
  text-decoration: none;
  align-content: start;
}
.tile::before {
  content: '';
  position: absolute;
  inset: 0 auto 0 0;
  width: 4px;
  background: var(--line);
}
.tile.live::before {
  background: var(--live-fill);
}
.tile.pass::before {
  background: var(--pass);
}
.tile.marginal::before {
  background: var(--marginal);
}
.tile.fail::before {
  background: var(--fail);
}
.row {
  display: flex;
  align-items: baseline;
  gap: 10px;
}
.read {
  gap: 22px;
  flex-wrap: wrap;
}
.name {
  font-weight: 650;
}
.nowrap {
  white-space: nowrap;
}
.empty {
  height: 70px;
  display: grid;
  place-items: center;
}
.mini {
  display: grid;
  gap: 2px;
}
.said {
  font-size: 12px;
}
.alarm {
  color: var(--fail);
  min-height: 70px;
}
</style>
