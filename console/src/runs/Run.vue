<script setup lang="ts">
import { computed, onUnmounted, ref, shallowRef, toRef, watch } from 'vue'

import { api, type Judgement, type Run } from '../api'
import DeviationsPanel from './DeviationsPanel.vue'
import AttachForm from '../parts/AttachForm.vue'
import AttachmentStrip from '../parts/AttachmentStrip.vue'
import CapturesPanel from './CapturesPanel.vue'
import CursorTable from './CursorTable.vue'
import ExcerptsPanel from './ExcerptsPanel.vue'
import FindingsList from '../parts/FindingsList.vue'
import FiguresTable from '../parts/FiguresTable.vue'
import MapChart from './MapChart.vue'
import PointsChart from '../parts/PointsChart.vue'
import PointsTable from '../parts/PointsTable.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ReadingsTable from './ReadingsTable.vue'
import RowsTable from '../parts/RowsTable.vue'
import RunFacts from './RunFacts.vue'
import StateChip from '../parts/StateChip.vue'
import ReferenceMenu from '../parts/ReferenceMenu.vue'
import TraceChart from '../parts/TraceChart.vue'
import type { Reference, Sharing } from '../parts/panels'
import { useForetold } from '../parts/foretold'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { useStatistics } from './statistics'
import { useZoom } from './zoom'
import { clock, dateTime, isPhase, seconds } from '../parts/format'

const props = defineProps<{ run: string }>()
const live = useLive()
const session = useSession()
const doc = shallowRef<Run | null>(null)
const error = ref<unknown>(null)
const chart = ref<InstanceType<typeof TraceChart> | null>(null)
const cursors = ref<[number | null, number | null]>([null, null])
const phases = ref(false)
const { lines, data, whole, view, error: windowError, show, refetch } = useZoom(toRef(props, 'run'), phases)
const hasPhases = computed(() => data.value?.traces.some((t) => isPhase(t.name)) ?? false)

const sharings: { value: Sharing; title: string }[] = [
  { value: 'auto', title: 'So that everything is seen' },
  { value: 'together', title: 'One for each quantity' },
  { value: 'apart', title: 'One for each trace' },
]
const sharing = ref<Sharing>('auto')
const reference = ref<Reference>('')

const between = useStatistics(() => props.run, cursors)

const judgements = shallowRef<Judgement[]>([])
const showForetold = ref(false)
const showReadings = ref(false)
// A mark is shown with some of the run around it.
function goTo(t: number) {
  const around = Math.min(0.05 * (whole.value[1] - whole.value[0]), 4)
  visit(t - around / 2, t + around)
}
// A part of the run is shown whole, and brought before the eyes.
function visit(from: number, to: number) {
  show(Math.max(from, whole.value[0]), Math.min(to, whole.value[1]))
  document.querySelector('.chart')?.scrollIntoView({ block: 'center' })
}
// A deviation is shown beside the rehearsal, with some of the run around it.
function lookAt(from: number, to: number) {
  const around = 0.2 * (to - from)
  showForetold.value = true
  show(Math.max(from - around, whole.value[0]), Math.min(to + around, whole.value[1]))
}
const { rehearsal, lines: foretold } = useForetold(
  computed(() => doc.value?.id),
  computed(() => doc.value?.state),
)
const all = computed(() => [
  ...lines.value,
  ...foretold.value.filter((f) => lines.value.some((l) => l.column === f.column)),
])
const drawn = computed(() => (showForetold.value || reference.value === 'rehearsal' ? all.value : lines.value))

async function load() {
  try {
    doc.value = await api.run(props.run)
    judgements.value = await api.judgements(props.run)
    error.value = null
  } catch (e) {
    error.value = e
  }
}
watch(
  () => props.run,
  () => {
    cursors.value = [null, null]
    void load()
  },
  { immediate: true },
)
onUnmounted(
  live.listen({
    run: (r) => {
      if (r.id === doc.value?.id) {
        void load()
        void refetch()
      }
    },
  }),
)

function pick(t: number, second: boolean) {
  // The first click sets A, the next one B; with Shift it is always B.
  const [a, b] = cursors.value
  if (second || (a !== null && b === null)) cursors.value = [a, t]
  else cursors.value = [t, a === null ? b : null]
}

// The points of grids, and the rows of acquire and seek.
const points = computed(() => (doc.value?.points ?? []).filter((p) => !p.row))
const rows = computed(() => (doc.value?.points ?? []).filter((p) => p.row))
const spots = computed(() => {
  const all = (doc.value?.figures ?? []).flatMap((f) => f.spots ?? [])
  return [...new Map(all.map((s) => [JSON.stringify(s), s])).values()] // figures made of one another lie at one spot
})
// The last scan of a harness, as far as it says how that is joined.
const scanned = computed(() => (doc.value?.marks ?? []).findLast((m) => m.about?.is === 'scanned'))
const undrawn = ref(false) // it cannot be judged, as its label says
const maps = computed(() => (doc.value?.figures ?? []).filter((f) => f.id === 'efficiency-map' && f.table))
const marks = computed(() =>
  (doc.value?.marks ?? []).filter((m) => !['command', 'point-done', 'stage-end'].includes(m.kind)),
)
const resolution = computed(() => (data.value?.exact ? 'every frame' : 'least and largest of each stretch'))
const part = computed<[number | undefined, number | undefined]>(() => view.value ?? [undefined, undefined])
</script>

<template>
  <div class="page">
    <ProblemNote :error="error" />
    <template v-if="doc">
      <header>
        <h1>{{ doc.serial }}</h1>
        <StateChip :state="doc.state === 'live' ? 'live' : (doc.outcome ?? '')" />
        <span class="muted title" :title="doc.title">{{ doc.title }}</span>
        <v-btn :href="api.reportURL(doc.id)">Report PDF</v-btn>
        <v-btn :href="api.exportURL(doc.id, 'csv')">CSV</v-btn>
        <v-btn :href="api.exportURL(doc.id, 'json')">JSON</v-btn>
        <v-menu
          ><template #activator="{ props: menu }"><v-btn v-bind="menu">More</v-btn></template>
          <v-list density="compact">
            <v-list-item :href="api.reportURL(doc.id, 'html')" title="Report as HTML" />
            <v-list-item :to="{ name: 'unit', params: { serial: doc.serial } }" title="History of the unit" />
            <v-list-item v-if="doc.lot" :to="{ name: 'lot', params: { lot: doc.lot } }" title="The lot" />
            <v-list-item :href="api.exportURL(doc.id, 'parquet')" title="Parquet" />
            <v-list-item :href="api.exportURL(doc.id, 'xlsx')" title="Workbook" />
            <v-list-item
              :href="api.exportURL(doc.id, 'csv', undefined, undefined, 'battery')"
              title="CSV of the battery: volts, amps, charge, cycle, stage"
            />
            <v-list-item
              :href="api.exportURL(doc.id, 'parquet', undefined, undefined, 'battery')"
              title="Parquet of the battery"
            />
            <v-list-item
              :to="{ name: 'overlay', query: { serial: doc.serial, over: 'charge' } }"
              title="Overlay with other runs of the unit"
            /> </v-list
        ></v-menu>
      </header>
      <p v-if="doc.reason" class="reason">{{ doc.reason }}</p>
      <div v-if="doc.figures.length" class="panel">
        <h2>Figures</h2>
        <FiguresTable :figures="doc.figures" />
      </div>
      <div v-if="!data || lines.length" class="panel">
        <div class="tools">
          <h2>Curves</h2>
          <span class="muted"
            >{{ clock(view?.[0] ?? whole[0], 5) }} to {{ clock(view?.[1] ?? whole[1], 5) }} · {{ resolution }}</span
          >
          <span class="grow" />
          <v-btn
            v-if="foretold.length"
            size="small"
            data-test="foretold"
            :aria-pressed="showForetold"
            @click="showForetold = !showForetold"
            >{{ showForetold ? 'Hide' : 'Show' }} the rehearsal</v-btn
          >
          <v-btn
            size="small"
            data-test="show-readings"
            :aria-pressed="showReadings"
            @click="showReadings = !showReadings"
            >{{ showReadings ? 'Hide' : 'Show' }} the readings</v-btn
          >
          <v-btn v-if="hasPhases" size="small" :aria-pressed="phases" @click="phases = !phases"
            >{{ phases ? 'Hide' : 'Show' }} the phases</v-btn
          >
          <v-menu
            ><template #activator="{ props: menu }"><v-btn v-bind="menu" size="small">Panels</v-btn></template>
            <v-list density="compact">
              <v-list-item
                v-for="s in sharings"
                :key="s.value"
                :title="s.title"
                :active="sharing === s.value"
                @click="sharing = s.value"
              /> </v-list
          ></v-menu>
          <ReferenceMenu v-model="reference" :lines="all" :rated="doc.rated ?? {}" />
          <v-btn size="small" :disabled="!view" @click="show(whole[0], whole[1])">Whole run</v-btn>
          <v-btn size="small" :disabled="cursors[0] === null" @click="cursors = [null, null]">Clear cursors</v-btn>
          <v-btn size="small" @click="chart?.savePNG()">PNG</v-btn>
          <v-btn size="small" @click="chart?.saveSVG()">SVG</v-btn>
          <v-btn size="small" :href="api.exportURL(doc.id, 'csv', part[0], part[1])">CSV of the view</v-btn>
        </div>
        <ProblemNote :error="windowError" />
        <TraceChart
          v-if="lines.length"
          ref="chart"
          :lines="drawn"
          :deviations="showForetold ? rehearsal?.deviations : []"
          :from="whole[0]"
          :to="whole[1]"
          :view="view"
          :marks="marks"
          :cursors="cursors"
          :sharing="sharing"
          :reference="reference"
          :rated="doc.rated ?? {}"
          :name="`${doc.serial}-${doc.id}`"
          @view="show"
          @pick="pick"
        />
        <AttachmentStrip
          v-if="doc.attachments?.length"
          :run="doc.id"
          :all="doc.attachments"
          :from="view?.[0] ?? whole[0]"
          :to="view?.[1] ?? whole[1]"
          :may-drop="session.mayEngineer"
          may-look
          @look="(t) => (goTo(t), pick(t, false))"
          @changed="load"
        />
        <p class="muted hint">
          Wheel zooms, drag pans, double click shows the whole run. Click sets cursor A, then B; arrow keys move them.
        </p>
        <CursorTable v-if="cursors[0] !== null" :lines="lines" :cursors="cursors" :between="between" />
        <ReadingsTable
          v-if="showReadings && lines.length"
          :run="doc.id"
          :columns="lines.map((l) => l.column)"
          :cursor="cursors[0]"
          :begin="view?.[0] ?? whole[0]"
          :duration="whole[1]"
          :frames="doc.frames"
          @pick="(t) => (cursors = [t, cursors[1]])"
        />
        <AttachForm
          v-if="session.mayOperate"
          :run="doc.id"
          :cursor="cursors[0]"
          :live="doc.state === 'live'"
          @joined="load"
        />
      </div>
      <ExcerptsPanel v-if="!data || lines.length" :run="doc.id" :cursors="cursors" @look="visit" />
      <CapturesPanel :run="doc.id" :serial="doc.serial" :state="doc.state" />
      <DeviationsPanel v-if="rehearsal && doc.state !== 'live'" :rehearsal="rehearsal" @look="lookAt" />
      <div v-if="judgements.length" class="panel">
        <h2>Judged again</h2>
        <table class="plain">
          <tbody>
            <tr v-for="j in judgements" :key="j.id">
              <td class="nowrap muted">{{ dateTime(j.at) }}</td>
              <td>{{ j.by }}</td>
              <td><StateChip :state="j.outcome" /></td>
              <td class="muted">{{ j.why || '—' }}</td>
              <td>
                <div v-for="c in j.changes" :key="c">{{ c }}</div>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <RowsTable v-if="rows.length" :points="rows" />
      <div v-if="scanned" class="panel wiring" data-test="wiring">
        <h2>Wiring</h2>
        <img v-if="!undrawn" :src="api.wiringURL(doc.id)" :alt="scanned.label" @error="undrawn = true" />
        <p class="muted">{{ scanned.label }}</p>
      </div>
      <div v-if="doc.played?.length" class="pictures">
        <MapChart v-for="(f, i) in maps" :key="i" :table="f.table!" :title="f.title" :name="`${doc.serial}-${f.id}`" />
        <PointsChart
          v-for="c in doc.curves"
          :key="`${c.title} ${c.of} ${c.less} ${c.by}`"
          :title="c.title"
          :played="doc.played"
          :spots="spots"
          :log="c.log"
          :of="c.of"
          :less="c.less"
          :rated="doc.rated ?? {}"
          :name="doc.serial"
          :by="c.by"
          :per="c.per"
        />
      </div>
      <PointsTable v-if="points.length" :points="points" />
      <div class="two">
        <div class="panel">
          <h2>Guards and marks</h2>
          <table class="plain">
            <tbody>
              <tr v-for="(m, i) in marks" :key="i">
                <td class="right when">
                  <button class="go" :title="`Show ${seconds(m.t)}`" @click="goTo(m.t)">{{ seconds(m.t) }}</button>
                </td>
                <td class="muted">{{ m.kind }}</td>
                <td :class="{ bad: m.kind === 'guard' || m.kind === 'bench' || m.kind === 'timed-out' }">
                  {{ m.label }}
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="stack">
          <RunFacts :run="doc" />
          <div v-if="doc.preflight.length" class="panel">
            <h2>Preflight</h2>
            <FindingsList :findings="doc.preflight" />
          </div>
        </div>
      </div>
    </template>
    <div v-else-if="!error" class="muted">Reading the record …</div>
  </div>
</template>

<style scoped>
.wiring img {
  display: block;
  width: 480px;
  max-width: 100%;
  padding: 6px;
  border-radius: 8px;
  background: #fff;
}
.title {
  flex: 1 1 160px;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.tools {
  display: flex;
  gap: 8px 12px;
  align-items: baseline;
  flex-wrap: wrap;
  margin-bottom: 6px;
}
.hint {
  font-size: 12px;
  margin: 4px 0 8px;
}
.pictures {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
  gap: var(--gap);
}
.reason,
.bad {
  color: var(--fail);
}
.when {
  width: 90px;
}
.go {
  color: inherit;
  text-decoration: underline dotted;
  text-underline-offset: 3px;
}
.nowrap {
  white-space: nowrap;
}
</style>
