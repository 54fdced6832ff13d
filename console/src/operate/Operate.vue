<script setup lang="ts">
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'

import { api, type Place, type UnitVerdict } from '../api'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { seconds, timeOfDay } from '../parts/format'
import { useLive } from '../parts/live'
import SetUpPlace from './SetUpPlace.vue'
import { play } from './sounds'

// An operator's place: one field that always has the focus, one colour that fills the screen, the counts of the lot.
const props = defineProps<{ bay: string }>()
const live = useLive()
const place = ref<Place | null>(null)
const error = ref<unknown>(null)
const typed = ref('')
const settingUp = ref(false)
const field = useTemplateRef<HTMLInputElement>('field')

const now = computed(() => live.bays.get(props.bay))
const unit = computed(() => place.value?.unit ?? null)
const last = computed(() => place.value?.last ?? null)
const prompt = computed(() => now.value?.prompt)
const formOpen = computed(() => settingUp.value || (place.value !== null && !place.value.setup))

// take shows how the place is. A unit that came through meanwhile is heard; one of before the page was opened is not.
function take(p: Place, quiet = false) {
  const before = place.value?.last?.at
  place.value = p
  if (!quiet && p.last && p.last.at !== before) play(p.last.verdict)
}
let quiet = true
async function load() {
  try {
    take(await api.place(props.bay), quiet)
    error.value = null
    quiet = false
  } catch (e) {
    error.value = e
  }
}
onUnmounted(
  live.listen({
    place: (p) => {
      if (p.bay === props.bay) take(p)
    },
    gap: () => void load(),
  }),
)
onMounted(load)

// act does one thing after another, in the order in which they were scanned or pressed: what comes while an answer is
// awaited is decided when that has come.
let before: Promise<void> = Promise.resolve()
function act(decide: () => Promise<Place | undefined> | undefined) {
  before = before.then(async () => {
    error.value = null
    try {
      const p = await decide()
      if (p) take(p)
    } catch (e) {
      error.value = e
      play('attention')
    } finally {
      focus()
    }
  })
  return before
}

// answer answers what the run asks: words that were typed, the number of a choice, or yes with Enter alone.
async function answer(text: string): Promise<undefined> {
  const p = prompt.value
  if (!p) return undefined
  let reply = text
  if (p.form === 'confirm') reply = text === '' ? 'yes' : text
  else if (p.form === 'choice') reply = p.choice?.[Number(text) - 1] ?? text
  await api.intervene(props.bay, { do: 'answer', text: reply })
  return undefined
}
function submit() {
  const text = typed.value.trim()
  typed.value = ''
  return act(() => {
    if (prompt.value) return answer(text)
    if (text === '' && unit.value && !unit.value.wanted.length) return api.beginPlace(props.bay)
    if (text === '' && !place.value?.setup?.make) return undefined
    return api.scan(props.bay, text)
  })
}
function back() {
  typed.value = ''
  return act(() => {
    if (prompt.value?.form === 'confirm') return answer('no')
    return unit.value && !unit.value.run ? api.takeBack(props.bay) : undefined
  })
}

// The field has the focus whatever was clicked, unless something else is typed into.
function focus() {
  void nextTick(() => {
    const elsewhere = document.activeElement?.closest('.v-overlay--active, form.set-up')
    if (!elsewhere) field.value?.focus()
  })
}
const refocus = window.setInterval(focus, 400)
onUnmounted(() => clearInterval(refocus))
watch(formOpen, focus)

const shapes: Record<UnitVerdict, string> = { pass: '●', marginal: '▲', fail: '■', attention: '◆' }
interface Shown {
  kind: UnitVerdict | 'waits' | 'tests'
  word: string
  serial: string
  lines: string[]
}
const shown = computed<Shown>(() => {
  const u = unit.value
  const at = now.value?.progress
  if (!live.connected)
    return {
      kind: 'attention',
      word: 'No contact',
      serial: u?.serial ?? '',
      lines: [
        'with the service since ' + timeOfDay(new Date(live.heardAt)),
        'A test that runs goes on. It comes back.',
      ],
    }
  if (now.value?.alarm) return { kind: 'attention', word: 'Alarm', serial: '', lines: [now.value.alarm] }
  if (place.value?.held)
    return {
      kind: 'attention',
      word: 'Held',
      serial: u?.serial ?? '',
      lines: [place.value.held, 'Look around, then go on.'],
    }
  if (prompt.value) {
    const p = prompt.value
    const how =
      p.form === 'confirm'
        ? ['Enter: yes', 'Esc: no']
        : p.form === 'choice'
          ? (p.choice ?? []).map((c, i) => `${i + 1}: ${c}`)
          : [p.form === 'number' ? `type a number in ${p.unit || '1'}` : p.form === 'serial' ? 'scan the unit' : 'type']
    return { kind: 'waits', word: p.prompt, serial: u?.serial ?? '', lines: how }
  }
  if (u?.run) {
    const name = now.value?.run?.title ?? ''
    const stage = at ? `${at.name}, ${seconds(at.left)} to go` : ''
    const many = u.of > 1 ? [`${u.of - u.toDo.length} of ${u.of}`] : []
    return { kind: 'tests', word: 'Testing', serial: u.serial, lines: [name, stage, ...many] }
  }
  if (u?.problem)
    return {
      kind: 'attention',
      word: 'Not begun',
      serial: u.serial,
      lines: [u.problem, 'Enter: try again · Esc: take it back'],
    }
  if (u?.wanted.length) return { kind: 'waits', word: `Scan the ${u.wanted[0]}`, serial: u.serial, lines: [] }
  if (u) return { kind: 'waits', word: 'Ready', serial: u.serial, lines: ['Enter: begin · Esc: take it back'] }
  if (last.value)
    return {
      kind: last.value.verdict,
      word: last.value.verdict,
      serial: last.value.serial,
      lines: last.value.words,
    }
  return { kind: 'waits', word: 'Scan a unit', serial: '', lines: [] }
})
const shape = computed(() => (shown.value.kind in shapes ? shapes[shown.value.kind as UnitVerdict] : ''))
// capital makes a word the first of a line.
const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1)
const what = computed(() => {
  const s = place.value?.setup
  if (!s) return ''
  return s.card ? `card of ${s.card}` : (s.procedures ?? []).join(', ')
})
const tally = computed(() => place.value?.tally)
const yielded = computed(() => {
  const t = tally.value
  return t?.units ? `${((100 * (t.passed + t.marginal)) / t.units).toFixed(1)} %` : '—'
})
const share = computed(() => (now.value?.progress?.share ?? 0) * 100)

async function stop() {
  await api.stop(props.bay)
  focus()
}
async function goOn() {
  const h = now.value?.held
  await act(async () => {
    if (h?.house) await api.goOn(h.at)
    else if (h) await api.goOnBay(props.bay, h.at)
    return api.place(props.bay)
  })
}
function done(p: Place) {
  settingUp.value = false
  take(p, true)
  focus()
}
</script>

<template>
  <div class="place" :class="shown.kind" data-test="place" :data-kind="shown.kind" @click="focus">
    <header>
      <strong>{{ place?.title ?? bay }}</strong>
      <span data-test="what">{{ what }}</span>
      <span v-if="place?.setup?.lot">lot {{ place.setup.lot }}</span>
      <span class="grow" />
      <v-btn v-if="place?.setup && !unit?.run" variant="text" data-test="change" @click="settingUp = !settingUp"
        >Set up</v-btn
      >
      <v-btn variant="text" :to="{ name: 'bay', params: { bay } }">Curves</v-btn>
      <v-btn variant="text" :to="{ name: 'operate' }">Leave</v-btn>
    </header>
    <SetUpPlace v-if="formOpen" :bay="bay" :seats="(now?.seats ?? []).map((s) => s.name)" :place="place" @done="done">
      <v-btn v-if="place?.setup" size="large" @click="settingUp = false">Keep as it is</v-btn>
    </SetUpPlace>
    <main v-else aria-live="assertive">
      <p class="word" data-test="verdict">
        <span v-if="shape" aria-hidden="true">{{ shape }}</span> {{ capital(shown.word) }}
      </p>
      <p class="serial" data-test="serial">{{ shown.serial }}</p>
      <img
        v-if="prompt?.picture && now?.run"
        class="picture"
        :src="api.pictureURL(now.run.id, prompt.picture)"
        :alt="`Picture: ${prompt.picture}`"
        data-test="picture"
      />
      <p v-for="(line, i) in shown.lines" :key="i" class="line">{{ line }}</p>
      <div v-if="shown.kind === 'tests'" class="bar" role="progressbar" :aria-valuenow="share">
        <div :style="{ width: `${share}%` }" />
      </div>
      <v-btn v-if="place?.held" size="x-large" class="mt-6" data-test="go-on" @click.stop="goOn">Go on</v-btn>
    </main>
    <ProblemNote class="note" :error="error" data-test="problem" />
    <footer>
      <input
        ref="field"
        v-model="typed"
        class="scan"
        aria-label="Scan or type a serial number"
        placeholder="scan"
        data-test="scan"
        autocomplete="off"
        spellcheck="false"
        :disabled="formOpen"
        @keydown.enter.prevent="submit"
        @keydown.esc.prevent="back"
      />
      <dl v-if="tally" data-test="tally">
        <div>
          <dt>units</dt>
          <dd>
            {{ tally.units }}<template v-if="tally.quantity"> of {{ tally.quantity }}</template>
          </dd>
        </div>
        <div>
          <dt>● pass</dt>
          <dd>{{ tally.passed }}</dd>
        </div>
        <div>
          <dt>▲ marginal</dt>
          <dd>{{ tally.marginal }}</dd>
        </div>
        <div>
          <dt>■ fail</dt>
          <dd>{{ tally.failed }}</dd>
        </div>
        <div>
          <dt>yield</dt>
          <dd>{{ yielded }}</dd>
        </div>
      </dl>
      <span class="grow" />
      <ConfirmButton
        v-if="unit?.run"
        label="Stop"
        question="Stop this test?"
        consequence="The outputs go off at once, and the unit counts as not tested."
        :act="stop"
      />
    </footer>
  </div>
</template>

<style scoped>
.place {
  --ground: var(--paper);
  --on: var(--ink);
  background: var(--ground);
  color: var(--on);
  min-height: 100vh;
  display: grid;
  grid-template: auto 1fr auto auto / minmax(0, 1fr);
}
.pass {
  --ground: #00684d;
  --on: #fff;
}
.marginal {
  --ground: #f3b33d;
  --on: #2b1d00;
}
.fail {
  --ground: #a3231c;
  --on: #fff;
}
.attention {
  --ground: #34477f;
  --on: #fff;
}
.tests {
  --ground: #24413d;
  --on: #e9f0ec;
}
header :deep(.v-btn) {
  color: inherit !important;
}
header {
  display: flex;
  gap: 8px 18px;
  align-items: center;
  flex-wrap: wrap;
  padding: 14px 26px;
  font-size: 16px;
}
main {
  display: flex;
  flex-direction: column;
  justify-content: center;
  align-items: center;
  text-align: center;
  padding: 10px 26px;
  min-width: 0;
}
.word {
  font-size: clamp(44px, 11vw, 150px);
  font-weight: 750;
  letter-spacing: -0.02em;
  line-height: 1.05;
  margin: 0;
  overflow-wrap: anywhere;
}
.waits .word {
  font-size: clamp(34px, 6vw, 84px);
}
.serial {
  font-size: clamp(24px, 4vw, 52px);
  font-weight: 600;
  margin: 10px 0 14px;
  font-variant-numeric: tabular-nums;
}
.picture {
  max-width: min(900px, 92vw);
  max-height: 46vh;
  border-radius: 12px;
  margin-bottom: 14px;
}
.line {
  font-size: clamp(16px, 1.8vw, 24px);
  margin: 2px 0;
  max-width: 60ch;
  overflow-wrap: anywhere;
}
.bar {
  width: min(560px, 80%);
  height: 10px;
  border-radius: 5px;
  margin-top: 22px;
  background: rgb(255 255 255 / 18%);
  overflow: hidden;
}
.bar div {
  height: 100%;
  background: var(--live-fill);
}
.note {
  margin: 0 26px;
  font-size: 17px;
}
footer {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 12px 30px;
  padding: 16px 26px 20px;
}
.scan {
  font: inherit;
  font-size: 24px;
  font-weight: 600;
  padding: 10px 16px;
  width: 360px;
  max-width: 100%;
  border-radius: 10px;
  border: 2px solid currentcolor;
  background: transparent;
  color: inherit;
}
.scan::placeholder {
  color: inherit;
  opacity: 0.7;
}
.scan:focus {
  outline: 3px solid var(--live-fill);
  outline-offset: 2px;
}
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 26px;
  margin: 0;
  font-variant-numeric: tabular-nums;
}
dt {
  font-size: 13px;
}
dd {
  margin: 0;
  font-size: 26px;
  font-weight: 650;
}
@media (max-width: 600px) {
  header,
  main,
  footer {
    padding: 12px 14px;
  }
  footer {
    gap: 10px 18px;
  }
  .scan {
    width: 100%;
  }
  dl {
    gap: 4px 16px;
  }
  dd {
    font-size: 20px;
  }
}
</style>
