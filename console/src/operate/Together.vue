<script setup lang="ts">
import { computed, onMounted, onUnmounted, reactive, ref, useTemplateRef, watch } from 'vue'

import { api, type Place, type UnitVerdict } from '../api'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import PlaceTile from './PlaceTile.vue'
import ScanField from './ScanField.vue'
import SetUpPlace from './SetUpPlace.vue'
import TallyList from './TallyList.vue'
import { answer } from './prompts'
import { useScanning } from './scanning'
import { canEnd, isNewer, shownOf, what, worst } from './shown'
import { play } from './sounds'

// Several places at which one person works: a scan goes where the page says, and Enter begins all that wait for it.
const props = defineProps<{ bays: string }>()
const live = useLive()
const places = reactive(new Map<string, Place>())
const settingUp = ref(false)
const field = useTemplateRef<InstanceType<typeof ScanField>>('field')
const { typed, error, focus, act, read } = useScanning(field)

const names = computed(() => props.bays.split(',').filter(Boolean))
const all = computed(() => names.value.flatMap((bay) => places.get(bay) ?? []))
const unset = computed(() => all.value.filter((p) => !p.setup))
const formOpen = computed(() => settingUp.value || unset.value.length > 0)

// Where what is scanned goes: a part to the unit that lacks it, a unit to the first place that is empty.
const next = computed(
  () => all.value.find((p) => p.unit?.wanted.length && !p.unit.run) ?? all.value.find((p) => p.setup && !p.unit),
)
const ready = computed(() => all.value.filter((p) => p.unit && !p.unit.run && !p.unit.wanted.length))
const testing = computed(() => all.value.filter((p) => p.unit?.run))
const asking = computed(() => names.value.flatMap((bay) => live.bays.get(bay) ?? []).find((b) => b.prompt))
const tallies = computed(() => [...new Map(all.value.map((p) => [p.setup?.lot || p.bay, p])).values()])

// Verdicts that come nearly at once are one sound: that of the worst.
const together = 250
let heard: UnitVerdict[] = []
function hear(verdict: UnitVerdict) {
  if (heard.push(verdict) > 1) return
  setTimeout(() => {
    const v = worst(heard)
    heard = []
    if (v) play(v)
  }, together)
}

function take(p: Place, quiet = false, again = false) {
  const before = places.get(p.bay)
  if (!again && !isNewer(p, before)) return
  places.set(p.bay, p)
  if (!quiet && before && p.last && p.last.at !== before.last?.at) hear(p.last.verdict)
}
async function load(again = false) {
  try {
    for (const p of await Promise.all(names.value.map((bay) => api.place(bay)))) take(p, false, again)
    error.value = null
  } catch (e) {
    error.value = e
  }
}
onUnmounted(
  live.listen({
    place: (p) => {
      if (names.value.includes(p.bay)) take(p)
    },
    gap: () => void load(true),
  }),
)
onMounted(() => load())

async function keep(changed: Promise<Place | Place[]>) {
  for (const p of [await changed].flat()) take(p)
}
function submit() {
  const text = read()
  return act(() => {
    if (asking.value) return answer(asking.value, text)
    if (text === '' && ready.value.length) return keep(api.beginTogether(ready.value.map((p) => p.bay)))
    if (text === '' && !next.value?.setup?.make) return undefined
    if (!next.value) throw new Error(`${text} has no place: every one has a unit. Enter begins, Esc takes one back.`)
    return keep(api.scan(next.value.bay, text))
  })
}
function back() {
  typed.value = ''
  return act(() => {
    if (asking.value?.prompt?.form === 'confirm') return answer(asking.value, 'no')
    const asked = asking.value?.prompt
    if (asking.value && asked?.form === 'take' && canEnd(asked)) return answer(asking.value, 'done')
    const scanned = all.value.filter((p) => p.unit && !p.unit.run)
    const last = scanned.sort((a, b) => (b.unit?.at ?? '').localeCompare(a.unit?.at ?? ''))[0]
    return last ? keep(api.takeBack(last.bay)) : undefined
  })
}
watch(formOpen, focus)

async function stop() {
  await Promise.all(testing.value.map((p) => api.stop(p.bay)))
  focus()
}
function done(changed: Place[]) {
  settingUp.value = false
  for (const p of changed) take(p, true)
  focus()
}
</script>

<template>
  <div class="together" data-test="together" @click="focus">
    <header>
      <strong>{{ all.map((p) => p.title).join(' · ') }}</strong>
      <span>{{ [...new Set(all.map(what))].join('; ') }}</span>
      <span class="grow" />
      <v-btn v-if="!testing.length && !unset.length" variant="text" data-test="change" @click="settingUp = !settingUp"
        >Set up</v-btn
      >
      <v-btn variant="text" :to="{ name: 'operate' }">Leave</v-btn>
    </header>
    <SetUpPlace
      v-if="formOpen"
      :bays="unset.length ? unset.map((p) => p.bay) : names"
      :before="all.find((p) => p.setup)?.setup"
      @done="done"
    >
      <v-btn v-if="!unset.length" size="large" @click="settingUp = false">Keep as it is</v-btn>
    </SetUpPlace>
    <main v-else class="tiles" aria-live="polite">
      <PlaceTile
        v-for="p in all"
        :key="p.bay"
        :place="p"
        :bay="live.bays.get(p.bay)"
        :shown="shownOf(p, live.bays.get(p.bay), live.connected ? null : live.heardAt)"
        :next="next?.bay === p.bay"
        :fresh="live.connected"
      />
    </main>
    <ProblemNote class="note" :error="error" data-test="problem" />
    <footer>
      <ScanField ref="field" v-model="typed" :disabled="formOpen" @enter="submit" @esc="back" />
      <strong v-if="asking" data-test="hint">{{ asking.title }} asks</strong>
      <strong v-else-if="ready.length" data-test="hint">Enter begins {{ ready.map((p) => p.title).join(', ') }}</strong>
      <strong v-else-if="next" data-test="hint">scan for {{ next.title }}</strong>
      <template v-for="p in tallies" :key="p.bay">
        <span class="muted">{{ p.setup?.lot ? `lot ${p.setup.lot}` : p.title }}</span>
        <TallyList :tally="p.tally" />
      </template>
      <span class="grow" />
      <ConfirmButton
        v-if="testing.length"
        label="Stop these"
        :question="`Stop the tests in ${testing.map((p) => p.title).join(', ')}?`"
        consequence="The outputs go off at once, and the units count as not tested."
        :act="stop"
      />
    </footer>
  </div>
</template>

<style scoped>
.together {
  background: var(--paper);
  color: var(--ink);
  min-height: 100vh;
  display: grid;
  grid-template: auto 1fr auto auto / minmax(0, 1fr);
}
header,
footer {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 22px;
  align-items: center;
  padding: 14px 26px;
  font-size: 16px;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
  grid-auto-rows: minmax(0, 1fr);
  gap: 12px;
  padding: 0 26px;
}
.note {
  margin: 10px 26px 0;
  font-size: 17px;
}
@media (max-width: 600px) {
  header,
  footer {
    padding: 12px 14px;
  }
  .tiles {
    padding: 0 14px;
  }
}
</style>
