<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'

import { api, type Place } from '../api'
import CoverNote from '../parts/CoverNote.vue'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import ScanField from './ScanField.vue'
import SetUpPlace from './SetUpPlace.vue'
import TallyList from './TallyList.vue'
import { answer } from './prompts'
import { useScanning } from './scanning'
import { canEnd, capital, isNewer, shapeOf, shownOf, what } from './shown'
import { play } from './sounds'

// An operator's place: one field that always has the focus, one colour that fills the screen, the counts of the lot.
const props = defineProps<{ bay: string }>()
const live = useLive()
const place = ref<Place | null>(null)
const settingUp = ref(false)
const field = useTemplateRef<InstanceType<typeof ScanField>>('field')
const { typed, error, focus, act, read } = useScanning(field)

const now = computed(() => live.bays.get(props.bay))
const unit = computed(() => place.value?.unit ?? null)
const prompt = computed(() => now.value?.prompt)
const formOpen = computed(() => settingUp.value || (place.value !== null && !place.value.setup))

// take shows how the place is. A unit that came through meanwhile is heard; one of before the page was opened is not.
// After a gap it may be another service that answers, with another clock.
function take(p: Place, quiet = false, again = false) {
  if (!again && !isNewer(p, place.value)) return
  const before = place.value?.last?.at
  place.value = p
  if (!quiet && p.last && p.last.at !== before) play(p.last.verdict)
}
let quiet = true
async function load(again = false) {
  try {
    take(await api.place(props.bay), quiet, again)
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
    gap: () => void load(true),
  }),
)
onMounted(() => load())

async function keep(changed: Promise<Place>) {
  take(await changed)
}
function submit() {
  const text = read()
  return act(() => {
    if (prompt.value && now.value) return answer(now.value, text)
    if (text === '' && unit.value && !unit.value.wanted.length) return keep(api.beginPlace(props.bay))
    if (text === '' && !place.value?.setup?.make) return undefined
    return keep(api.scan(props.bay, text))
  })
}
function back() {
  typed.value = ''
  return act(() => {
    if (prompt.value?.form === 'confirm' && now.value) return answer(now.value, 'no')
    if (prompt.value?.form === 'take' && now.value && canEnd(prompt.value)) return answer(now.value, 'done')
    return unit.value && !unit.value.run ? keep(api.takeBack(props.bay)) : undefined
  })
}
watch(formOpen, focus)

const shown = computed(() => shownOf(place.value, now.value, live.connected ? null : live.heardAt))
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
    await keep(api.place(props.bay))
  })
}
function done([p]: Place[]) {
  settingUp.value = false
  if (p) take(p, true)
  focus()
}
</script>

<template>
  <div class="place" :class="shown.kind" data-test="place" :data-kind="shown.kind" @click="focus">
    <header>
      <strong>{{ place?.title ?? bay }}</strong>
      <span data-test="what">{{ what(place) }}</span>
      <span v-if="place?.setup?.lot">lot {{ place.setup.lot }}</span>
      <span class="grow" />
      <v-btn v-if="place?.setup && !unit?.run" variant="text" data-test="change" @click="settingUp = !settingUp"
        >Set up</v-btn
      >
      <v-btn variant="text" :to="{ name: 'bay', params: { bay } }">Curves</v-btn>
      <v-btn variant="text" :to="{ name: 'operate' }">Leave</v-btn>
    </header>
    <SetUpPlace v-if="formOpen" :bays="[bay]" :before="place?.setup" @done="done">
      <v-btn v-if="place?.setup" size="large" @click="settingUp = false">Keep as it is</v-btn>
    </SetUpPlace>
    <main v-else aria-live="assertive">
      <p class="word" data-test="verdict">
        <span v-if="shapeOf(shown.kind)" aria-hidden="true">{{ shapeOf(shown.kind) }}</span> {{ capital(shown.word) }}
      </p>
      <p class="serial" data-test="serial">{{ shown.serial }}</p>
      <img
        v-if="prompt?.picture && now?.run"
        class="picture"
        :src="api.pictureURL(now.run.id, prompt.picture)"
        :alt="`Picture: ${prompt.picture}`"
        data-test="picture"
      />
      <CoverNote v-if="now?.cover" :cover="now.cover" :fresh="live.connected" />
      <p v-for="(line, i) in shown.lines" :key="i" class="line">{{ line }}</p>
      <div v-if="shown.kind === 'tests'" class="bar" role="progressbar" :aria-valuenow="share">
        <div :style="{ width: `${share}%` }" />
      </div>
      <v-btn v-if="place?.held" size="x-large" class="mt-6" data-test="go-on" @click.stop="goOn">Go on</v-btn>
    </main>
    <ProblemNote class="note" :error="error" data-test="problem" />
    <footer>
      <ScanField ref="field" v-model="typed" :disabled="formOpen" @enter="submit" @esc="back" />
      <TallyList v-if="place" :tally="place.tally" />
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

<style scoped src="./verdicts.css"></style>
<style scoped>
.place {
  background: var(--ground, var(--paper));
  color: var(--on, var(--ink));
  min-height: 100vh;
  display: grid;
  grid-template: auto 1fr auto auto / minmax(0, 1fr);
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
@media (max-width: 600px) {
  header,
  main,
  footer {
    padding: 12px 14px;
  }
  footer {
    gap: 10px 18px;
  }
}
</style>
