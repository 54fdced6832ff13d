<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Bay, type Control } from '../api'
import { useLive } from '../parts/live'
import { useRequest } from '../parts/request'
import { vFocus } from '../parts/focus'
import { columnsOf, rangeOf } from '../parts/format'
import PartsTable from '../parts/PartsTable.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import Readout from '../parts/Readout.vue'

// Manual control of one seat: live readings, a stepper for every number, a choice for every word. The output asks
// before it goes on.
const props = defineProps<{ bay: Bay; seat: Bay['seats'][number]; fresh: boolean; disabled: boolean }>()
const live = useLive()
const asking = ref(false)
const typed = reactive<Record<string, string>>({})

const columns = computed(() => columnsOf(props.seat.name, props.bay.readings))
const value = (column: string) => (props.fresh ? props.bay.readings[column] : null)
const numbers = computed(() => props.seat.controls.filter((c) => !c.words))
const words = computed(() => props.seat.controls.filter((c) => c.words && c.quantity !== 'output'))
const output = computed(() => props.seat.controls.find((c) => c.quantity === 'output'))

// What volts and amps are.
const measured = { ac: 'AC', dc: 'DC', both: 'AC and DC together' }
const prefixes: Record<string, number> = { m: 1e-3, k: 1e3, µ: 1e-6 }

// present is the setting in force as a number in the control's unit: what was typed, else what was set last.
function present(c: Control): number | null {
  const text = typed[c.quantity] ?? c.value ?? ''
  const m = /^([−+-]?[\d.]+)\s*([mkµ]?)/.exec(text)
  if (!m) return null
  const factor = typed[c.quantity] !== undefined ? 1 : (prefixes[m[2] ?? ''] ?? 1)
  return Number((m[1] ?? '').replace('−', '-')) * factor
}
const field = (c: Control) =>
  typed[c.quantity] ?? (present(c) === null ? '' : String(Number(present(c)!.toPrecision(6))))
// A step is a hundredth of the range, to a round number.
const step = (c: Control) => (c.most ? 10 ** Math.round(Math.log10(c.most / 100)) : 0.1)

async function set(quantity: string, text: string) {
  const pending = typed[quantity]
  const bay = await api.set(props.bay.name, props.seat.name, quantity, text)
  live.bays.set(bay.name, bay) // so that the field does not wait for the live stream
  if (typed[quantity] === pending) delete typed[quantity]
}
// Each thing is asked for by itself: a field that is left sends its value, and its answer must not touch the question
// of the output.
const switching = useRequest((word: 'on' | 'off') => set('output', word))
const settings = Object.fromEntries(
  props.seat.controls.map((c) => [c.quantity, useRequest((text: string) => set(c.quantity, text))]),
)
const error = computed(
  () =>
    switching.error.value ??
    Object.values(settings)
      .map((s) => s.error.value)
      .find(Boolean),
)

async function energise() {
  await switching.run('on')
  asking.value = false
}
function nudge(c: Control, by: number) {
  const next = Math.min(Math.max((present(c) ?? 0) + by * step(c), 0), c.most ?? Infinity)
  typed[c.quantity] = String(Number(next.toPrecision(6))) // the next step counts from here
  void settings[c.quantity]?.run(`${typed[c.quantity]} ${c.unit}`)
}
function commit(c: Control) {
  const text = typed[c.quantity]?.trim().replace(',', '.')
  const unit = /\d\s*[a-zµΩ°%]/i.test(text ?? '') ? '' : ` ${c.unit}` // one may be typed, as in -3 dBV
  if (text) void settings[c.quantity]?.run(text + unit)
}
</script>

<template>
  <section class="panel" :data-seat="seat.name">
    <div class="head">
      <h2>{{ seat.name }}</h2>
      <span class="muted"
        >{{ seat.instrument }}, channel {{ seat.channel }}<template v-if="seat.gang">, {{ seat.gang }}</template
        ><template v-if="seat.measures">, {{ measured[seat.measures] }}</template></span
      >
      <span class="grow" />
      <template v-if="output">
        <span class="state" :class="{ on: seat.energised }">{{ seat.energised ? '● energised' : '○ off' }}</span>
        <v-btn
          v-if="!seat.energised"
          variant="flat"
          color="primary"
          :disabled="disabled"
          data-test="output-on"
          @click="asking = true"
          >Output on</v-btn
        >
        <v-btn
          v-else
          class="danger"
          :disabled="disabled"
          :loading="switching.busy.value"
          data-test="output-off"
          @click="switching.run('off')"
          >Output off</v-btn
        >
      </template>
    </div>
    <div class="read">
      <Readout v-for="c in columns" :key="c" :column="c" :value="value(c)" :range="rangeOf(c, bay.readings)" />
    </div>
    <PartsTable :seat="seat.name" :readings="bay.readings" :fresh="fresh" />
    <div v-if="numbers.length || words.length" class="controls">
      <div v-for="c in numbers" :key="c.quantity" class="stepper">
        <label :for="`${seat.name}-${c.quantity}`">{{ c.quantity }}</label>
        <v-btn size="small" :disabled="disabled" :aria-label="`less ${c.quantity}`" @click="nudge(c, -1)">−</v-btn>
        <input
          :id="`${seat.name}-${c.quantity}`"
          :value="field(c)"
          :disabled="disabled"
          inputmode="decimal"
          :name="`${seat.name}.${c.quantity}`"
          @input="typed[c.quantity] = ($event.target as HTMLInputElement).value"
          @keydown.enter="commit(c)"
          @blur="commit(c)"
        />
        <span class="unit">{{ c.unit }}</span>
        <v-btn size="small" :disabled="disabled" :aria-label="`more ${c.quantity}`" @click="nudge(c, 1)">+</v-btn>
        <span class="muted most">{{
          c.most === undefined ? 'no limit stated' : `0 … ${Number(c.most.toPrecision(4))} ${c.unit}`
        }}</span>
      </div>
      <div v-for="c in words" :key="c.quantity" class="stepper">
        <span class="label">{{ c.quantity }}</span>
        <v-btn
          v-for="w in c.words"
          :key="w"
          size="small"
          :variant="c.value === w ? 'flat' : 'outlined'"
          :color="c.value === w ? 'primary' : undefined"
          :disabled="disabled"
          @click="settings[c.quantity]?.run(w)"
          >{{ w }}</v-btn
        >
      </div>
    </div>
    <ProblemNote class="mt-3" :error="error" />
    <v-dialog v-model="asking" max-width="440">
      <v-card class="pa-5">
        <p class="question">Switch the output of {{ seat.name }} on?</p>
        <p class="muted mt-2">
          {{ seat.instrument }} energises what is clipped into {{ bay.title }}. Check that nobody touches it.
        </p>
        <div class="d-flex ga-3 mt-5 justify-end">
          <v-btn @click="asking = false">Not yet</v-btn>
          <v-btn
            v-focus
            variant="flat"
            color="primary"
            data-test="confirm-on"
            :loading="switching.busy.value"
            @click="energise"
            >Output on</v-btn
          >
        </div>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  gap: 12px;
  align-items: center;
  flex-wrap: wrap;
}
.head h2 {
  margin: 0;
  color: var(--ink);
  font-size: 15px;
}
.state {
  font-weight: 600;
  color: var(--muted);
}
.state.on {
  color: var(--live);
}
.read {
  display: flex;
  gap: 26px;
  flex-wrap: wrap;
  margin: 8px 0 10px;
}
.controls {
  display: grid;
  gap: 8px;
}
.stepper {
  display: flex;
  gap: 8px;
  align-items: center;
  flex-wrap: wrap;
}
.stepper label,
.label {
  width: 56px;
  color: var(--muted);
}
.stepper input {
  width: 96px;
  padding: 7px 10px;
  border: 1px solid var(--line);
  border-radius: 7px;
  background: var(--raised);
  color: var(--ink);
  text-align: right;
  font: inherit;
  font-variant-numeric: tabular-nums;
}
.unit {
  width: 18px;
}
.most {
  font-size: 12px;
}
.question {
  font-size: 16px;
  font-weight: 620;
}
</style>
