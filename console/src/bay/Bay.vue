<script setup lang="ts">
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'

import { api, type Attachment } from '../api'
import AttachForm from '../parts/AttachForm.vue'
import AttachmentStrip from '../parts/AttachmentStrip.vue'
import BaySide from './BaySide.vue'
import ConfirmButton from '../parts/ConfirmButton.vue'
import CoverNote from '../parts/CoverNote.vue'
import HeldNote from '../parts/HeldNote.vue'
import LivePoints from './LivePoints.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import PromptPanel from './PromptPanel.vue'
import PartsTable from '../parts/PartsTable.vue'
import Readout from '../parts/Readout.vue'
import RunControls from './RunControls.vue'
import StartForm from './StartForm.vue'
import StateChip from '../parts/StateChip.vue'
import ReferenceMenu from '../parts/ReferenceMenu.vue'
import TraceChart from '../parts/TraceChart.vue'
import { liveEnd, type Reference } from '../parts/panels'
import { useLiveCurves } from '../parts/curves'
import { useForetold } from '../parts/foretold'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { columnsOf, rangeOf, seconds } from '../parts/format'

const props = defineProps<{ bay: string }>()
const live = useLive()
const session = useSession()
const error = ref<unknown>(null)

const bay = computed(() => live.bays.get(props.bay))
const running = computed(() => bay.value !== undefined && bay.value.state !== 'idle' && bay.value.state !== 'alarm')
const runId = computed(() => bay.value?.run?.id)
const { lines, marks, newest } = useLiveCurves(props.bay, runId)

// The rehearsal is laid anew over the run with each stage, since a stage may take longer than foretold.
const again = ref(20)
const { rehearsal, lines: foretold } = useForetold(
  runId,
  computed((): string => `${bay.value?.progress?.stage} ${bay.value?.state} ${Math.floor(newest.value / again.value)}`),
)
watch(rehearsal, (r) => {
  again.value = Math.max(20, (r?.duration ?? 0) / 40)
})
// How many points the run has taken, by its marks.
const taken = computed(() => marks.value.filter((m) => m.kind === 'point-done').length)
const showForetold = ref(true)
const reference = ref<Reference>('')
const all = computed(() => [
  ...lines.value,
  ...foretold.value.filter((f) => lines.value.some((l) => l.column === f.column)),
])
const drawn = computed(() => (showForetold.value || reference.value === 'rehearsal' ? all.value : lines.value))
const until = computed(() =>
  showForetold.value && running.value
    ? Math.max(newest.value, Math.min(rehearsal.value?.t.at(-1) ?? 0, newest.value * 2 + 60))
    : newest.value,
)
// Somebody looks back: the curves stand as they were, to be zoomed and moved, until one press is back at now.
const back = shallowRef<{ lines: typeof all.value; to: number } | null>(null)
const view = ref<[number, number]>()
function lookBack() {
  view.value = undefined
  back.value = { lines: drawn.value, to: newest.value }
}
watch([running, runId], () => (back.value = null))
// What was joined to the run, over the time of the curves.
const attachments = shallowRef<Attachment[]>([])
async function listAttachments() {
  const of = runId.value
  const all = of ? await api.attachments(of).catch(() => []) : []
  if (of === runId.value) attachments.value = all
}
watch(runId, listAttachments, { immediate: true })
watch(() => bay.value?.prompt?.t, listAttachments)
const signal = ref('')

// beep is the sound of a signal; browsers allow it once the person has touched the page.
function beep() {
  const context = new AudioContext()
  const tone = context.createOscillator()
  const level = context.createGain()
  tone.frequency.value = 880
  level.gain.value = 0.08
  tone.connect(level).connect(context.destination)
  tone.start()
  tone.stop(context.currentTime + 0.4)
}
onUnmounted(
  live.listen({
    signal(s) {
      if (s.bay !== props.bay) return
      signal.value = s.message
      if (s.sound) beep()
    },
  }),
)

const columns = computed(() =>
  (bay.value?.seats ?? []).map((s) => ({ seat: s.name, columns: columnsOf(s.name, bay.value?.readings ?? {}) })),
)
const value = (column: string) => (live.connected ? bay.value?.readings[column] : null)
const notes = computed(() =>
  marks.value
    .filter((m) =>
      [
        'stage',
        'guard',
        'warning',
        'condition',
        'timed-out',
        'bench',
        'hand',
        'note',
        'state',
        'answer',
        'signal',
        'opening',
        'end',
      ].includes(m.kind),
    )
    .slice(-8),
)

async function guarded(act: () => Promise<unknown>) {
  error.value = null
  try {
    await act()
  } catch (e) {
    error.value = e
  }
}
</script>

<template>
  <div class="page">
    <div v-if="!live.loaded" class="muted">Asking the service …</div>
    <div v-else-if="!bay" class="panel">
      There is no bay named {{ props.bay }}. <router-link to="/">Go to the floor</router-link>
    </div>
    <template v-else>
      <header>
        <h1>{{ bay.title }}</h1>
        <StateChip :state="bay.alarm ? 'alarm' : bay.state" />
        <span v-if="bay.run && running" class="muted"
          >{{ bay.run.nameplate }} {{ bay.run.serial }} · {{ bay.run.procedure }}, rev {{ bay.run.revision }}</span
        >
        <span class="grow" />
        <span v-if="running" class="muted nowrap">{{ bay.frameRate.toFixed(0) }} frames/s</span>
        <ConfirmButton
          v-if="running"
          stops
          label="Stop"
          question="Stop this run?"
          consequence="It ends as aborted, the outputs go off, and what was recorded is kept."
          :disabled="!session.mayOperate"
          :act="() => guarded(() => api.stop(props.bay))"
        />
        <v-btn v-if="!running && session.mayEngineer" :to="{ name: 'manual', params: { bay: props.bay } }"
          >Manual control</v-btn
        >
        <ConfirmButton
          v-if="!running"
          stops
          label="Make safe"
          question="Switch every output of this bay off?"
          consequence="Loads first, then sources, each read back."
          :disabled="!session.mayOperate"
          :act="() => guarded(() => api.makeSafe(props.bay))"
        />
      </header>
      <ProblemNote :error="error" />
      <div v-if="bay.alarm" class="panel alarm" role="alert">
        <p>■ {{ bay.alarm }}</p>
        <ConfirmButton
          v-if="session.mayEngineer"
          label="I looked: they are off"
          keep="Not yet"
          question="Have you looked at the instruments, and is every output of this bay off?"
          consequence="It goes to the journal, and the bay may be configured anew for ten minutes. The alarm stays until
            the outputs read back as off."
          :act="() => guarded(() => api.looked(props.bay))"
        />
      </div>
      <HeldNote v-if="bay.held && !bay.held.house && !running" :held="bay.held" :bay="bay.name" />
      <CoverNote v-if="bay.cover" :cover="bay.cover" :fresh="live.connected" />
      <div class="two">
        <div class="stack">
          <!-- What ended comes first: the form below it grows while it asks for the procedure. -->
          <div v-if="!running && bay.run" class="panel ended" data-test="ended">
            <StateChip :state="bay.run.outcome ?? bay.run.state" />
            <span>{{ bay.run.serial }} · {{ bay.run.procedure }}</span>
            <span v-if="bay.run.reason" class="muted">{{ bay.run.reason }}</span>
            <span class="grow" />
            <router-link :to="{ name: 'run', params: { run: bay.run.id } }">Figures and curves</router-link>
          </div>
          <!-- It stays while a preflight is made, and keeps what that found; after a run it is a new one. -->
          <StartForm
            v-show="!running || bay.state === 'starting'"
            :key="`${bay.run?.id} ${bay.state === 'live'}`"
            :bay="props.bay"
            :seats="bay.seats.map((s) => s.name)"
            :disabled="!session.mayOperate || bay.alarm !== undefined"
            :last="bay.run"
          />
          <PromptPanel v-if="running" :bay="bay" :disabled="!session.mayOperate" />
          <p v-if="signal" class="panel signal" role="status">
            ▶ {{ signal }} <v-btn size="small" @click="signal = ''">Seen</v-btn>
          </p>
          <RunControls v-if="bay.state === 'live'" :bay="bay" :disabled="!session.mayOperate" />
          <div class="panel readouts" data-test="readouts">
            <div v-for="g in columns" :key="g.seat" class="group">
              <span class="muted seat">{{ g.seat }}</span>
              <Readout
                v-for="c in g.columns"
                :key="c"
                :column="c"
                :value="value(c)"
                :range="rangeOf(c, bay.readings)"
              />
              <PartsTable :seat="g.seat" :readings="bay.readings" :fresh="live.connected" />
            </div>
          </div>
          <div v-if="lines.length" class="panel">
            <div class="tools">
              <h2 v-if="back" data-test="held-curves">‖ Curves held at {{ seconds(back.to) }}; the run goes on</h2>
              <h2 v-else>{{ running ? 'Live curves' : 'Curves of the last run' }}</h2>
              <span class="grow" />
              <v-btn v-if="back" size="small" color="primary" variant="flat" data-test="to-live" @click="back = null"
                >Back to live</v-btn
              >
              <v-btn v-else-if="running" size="small" data-test="look-back" @click="lookBack">Look back</v-btn>
              <v-btn
                v-if="foretold.length"
                size="small"
                :aria-pressed="showForetold"
                @click="showForetold = !showForetold"
                >{{ showForetold ? 'Hide' : 'Show' }} the rehearsal</v-btn
              >
              <ReferenceMenu v-model="reference" :lines="all" :rated="bay.rated ?? {}" />
            </div>
            <TraceChart
              :lines="back?.lines ?? drawn"
              :reference="reference"
              :rated="bay.rated ?? {}"
              :from="0"
              :to="back?.to ?? newest"
              :until="until"
              :view="back ? view : undefined"
              :marks="marks"
              :live="running && !back"
              :deviations="running || !showForetold ? [] : rehearsal?.deviations"
              :name="`${props.bay}-live`"
              @view="(from, to) => (view = [from, to])"
            />
            <AttachmentStrip
              v-if="attachments.length && runId"
              :run="runId"
              :all="attachments"
              :from="0"
              :to="running ? liveEnd(0, newest, until) : newest"
            />
            <AttachForm
              v-if="running && runId"
              :run="runId"
              live
              :disabled="!session.mayOperate"
              @joined="listAttachments"
            />
          </div>
          <div v-else class="panel muted">No frames yet. Curves appear as soon as a run records.</div>
          <LivePoints v-if="running && runId" :run="runId" :taken="taken" />
        </div>
        <BaySide :bay="bay" :now="newest" :notes="notes" />
      </div>
    </template>
  </div>
</template>

<style scoped>
.readouts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 34px;
}
.group {
  display: flex;
  gap: 4px 20px;
  align-items: baseline;
  flex-wrap: wrap;
  min-width: 0;
  max-width: 100%;
}
.seat {
  width: 44px;
}
@media (max-width: 480px) {
  /* The name of a seat stands above its numbers, which share one line. */
  .group {
    gap: 0 14px;
  }
  .seat {
    width: 100%;
  }
}
.ended {
  display: flex;
  gap: 12px;
  align-items: baseline;
  flex-wrap: wrap;
}
.ended a {
  color: var(--ink);
  font-weight: 600;
}
.alarm {
  display: grid;
  gap: 10px;
  justify-items: start;
  color: var(--fail);
  border-color: var(--fail);
  font-weight: 550;
}
.nowrap {
  white-space: nowrap;
}
.tools {
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.signal {
  border-color: var(--live-fill);
  font-weight: 600;
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 12px;
}
</style>
