<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type Overlay, type OverlayRequest } from '../api'
import OverlayChart from './OverlayChart.vue'
import PairsTable from './PairsTable.vue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { short } from '../parts/format'

// The whole picture lives in the address, so that it can be linked to.
const route = useRoute()
const router = useRouter()
const text = (name: string, fallback = '') => String(route.query[name] ?? fallback)
const list = (name: string) => text(name).split(',').filter(Boolean)
const form = ref({
  lot: text('lot'),
  serial: text('serial'),
  procedure: text('procedure'),
  over: text('over', 'charge'),
  half: text('half', 'discharge'),
  excerpt: text('excerpt'),
  quantity: text('quantity'),
  level: text('level'),
  mark: text('mark'),
  most: text('most', '12'),
  less: text('less'),
})
const runs = ref(list('runs'))
const after = ref(list('after'))
const overlay = ref<Overlay | null>(null)
const error = ref<unknown>(null)
const busy = ref(false)
const chart = ref<InstanceType<typeof OverlayChart> | null>(null)

const overs = [
  { title: 'over charge', value: 'charge' },
  { title: 'over time', value: 'time' },
  { title: 'over the share of the charge', value: 'state' },
  { title: 'capacity over cycles', value: 'cycle' },
]
// The columns of the first run: one of them may be either axis.
const columns = ref<string[]>([])
const isColumn = computed(() => form.value.over.includes('.'))
const drawn = computed(() => [...overs, ...columns.value.map((c) => ({ title: 'over ' + c, value: c }))])
const halves = [
  { title: 'discharges', value: 'discharge' },
  { title: 'charges', value: 'charge' },
  { title: 'both', value: 'both' },
  { title: 'whole runs', value: 'run' },
  { title: 'settled points', value: 'points' },
  { title: 'excerpts', value: 'excerpts' },
]
const reductions = [
  { title: 'values', value: '' },
  { title: 'deviation from the mean', value: 'mean' },
  { title: 'deviation from the first', value: 'reference' },
]
const ready = computed(() => runs.value.length > 0 || form.value.lot.trim() !== '' || form.value.serial.trim() !== '')
const request = computed<OverlayRequest>(() => ({
  ...(runs.value.length ? { runs: runs.value } : { lot: form.value.lot.trim(), serial: form.value.serial.trim() }),
  procedure: form.value.procedure.trim(),
  over: ['run', 'excerpts'].includes(form.value.half) && !isColumn.value ? 'time' : form.value.over,
  quantity: form.value.quantity,
  half: form.value.half,
  ...(form.value.half === 'excerpts' && form.value.excerpt.trim() ? { excerpt: form.value.excerpt.trim() } : {}),
  mark: form.value.mark.trim(),
  most: Number(form.value.most) || 0,
  ...(form.value.less ? { less: form.value.less as 'mean' | 'reference' } : {}),
  ...(form.value.level.trim() && Number.isFinite(Number(form.value.level)) ? { level: Number(form.value.level) } : {}),
  ...(after.value.length
    ? { groups: Object.fromEntries(runs.value.map((r) => [r, after.value.includes(r) ? 'after' : 'before'])) }
    : {}),
}))

async function draw() {
  if (!ready.value) return
  busy.value = true
  error.value = null
  const query = Object.fromEntries(
    Object.entries({ ...form.value, runs: runs.value.join(','), after: after.value.join(',') }).filter(([, v]) => v),
  )
  void router.replace({ query })
  try {
    overlay.value = await api.overlay(request.value)
    const first = overlay.value.curves[0]
    if (first && !columns.value.length) columns.value = (await api.run(first.run)).columns.map((c) => c.name)
  } catch (e) {
    error.value = e
    overlay.value = null
  } finally {
    busy.value = false
  }
}
watch(
  () => [form.value.over, form.value.half, form.value.most, form.value.quantity, form.value.less],
  () => void draw(),
)
void draw()

const labels = computed(() => new Map((overlay.value?.curves ?? []).map((c) => [c.run, c.serial])))
function toggle(run: string) {
  after.value = after.value.includes(run) ? after.value.filter((r) => r !== run) : [...after.value, run]
  void draw()
}
async function report() {
  try {
    await api.overlayReport(request.value)
  } catch (e) {
    error.value = e
  }
}
</script>

<template>
  <div class="page">
    <header>
      <h1>Overlay</h1>
      <span v-if="overlay" class="muted"
        >{{ overlay.curves.length }} {{ overlay.curves.length === 1 ? 'curve' : 'curves' }}</span
      ><span class="grow" />
      <template v-if="overlay">
        <v-btn variant="text" @click="chart?.picture('png')">PNG</v-btn
        ><v-btn variant="text" @click="chart?.picture('svg')">SVG</v-btn
        ><v-btn variant="text" @click="chart?.data()">CSV</v-btn>
        <v-btn data-test="overlay-report" @click="report">Report</v-btn>
      </template>
    </header>
    <form class="panel fields" @submit.prevent="draw">
      <v-text-field v-if="!runs.length" v-model="form.lot" label="Lot" name="lot" hide-details density="compact" />
      <v-text-field v-if="!runs.length" v-model="form.serial" label="or serial number" hide-details density="compact" />
      <v-text-field v-if="!runs.length" v-model="form.procedure" label="Procedure" hide-details density="compact" />
      <v-select v-model="form.half" :items="halves" label="Show" hide-details density="compact" />
      <v-select
        v-model="form.less"
        :items="reductions"
        label="As"
        hide-details
        density="compact"
        data-test="overlay-less"
      />
      <v-text-field
        v-if="form.half === 'excerpts'"
        v-model="form.excerpt"
        label="Only of this name"
        name="excerpt"
        hide-details
        density="compact"
      />
      <v-select v-model="form.over" :items="drawn" label="Drawn" name="over" hide-details density="compact" />
      <v-select
        v-model="form.quantity"
        :items="[{ title: 'volts, or what the run has', value: '' }, ...columns]"
        label="Quantity"
        name="quantity"
        hide-details
        density="compact"
      />
      <v-text-field v-model="form.level" label="Align at level" hide-details density="compact" />
      <v-text-field v-model="form.mark" label="Align at mark" hide-details density="compact" />
      <v-text-field v-model="form.most" label="Labels at most" type="number" hide-details density="compact" />
      <v-btn type="submit" variant="flat" color="primary" :loading="busy" :disabled="!ready" data-test="draw"
        >Draw</v-btn
      >
    </form>
    <ProblemNote :error="error" />
    <EmptyPlace
      v-if="!ready"
      title="No curves chosen"
      about="Here the curves of several runs lie on one picture, aligned at their beginning, a mark or a level, with the
        band that holds them and what differs: is it better than before, and is the batch alike?"
    >
      Name a lot or a unit above, or tick runs in the <router-link :to="{ name: 'runs' }">list of runs</router-link> and
      press <strong>Overlay</strong> there.
    </EmptyPlace>
    <template v-if="overlay">
      <div v-if="runs.length > 1" class="panel chips">
        <span class="muted">Before, or after:</span>
        <v-chip
          v-for="r in runs"
          :key="r"
          :variant="after.includes(r) ? 'flat' : 'outlined'"
          size="small"
          @click="toggle(r)"
          >{{ labels.get(r) ?? r.slice(0, 8) }}
          {{ after.length ? (after.includes(r) ? 'after' : 'before') : '' }}</v-chip
        >
      </div>
      <div v-if="overlay.comparisons?.length" class="panel" data-test="comparisons">
        <h2>Before and after</h2>
        <p v-for="c in overlay.comparisons" :key="c.title" :class="{ muted: !c.differs }">
          {{ c.differs ? '●' : '○' }} {{ c.words }}
        </p>
      </div>
      <div class="panel">
        <OverlayChart ref="chart" :overlay="overlay" />
        <p v-if="overlay.band" class="muted">
          The shaded band holds all curves; it is widest at {{ short(overlay.band.at) }} {{ overlay.xUnit }}:
          {{ short(overlay.band.widest) }} {{ overlay.yUnit }}.
        </p>
        <p v-for="l in overlay.left" :key="l.run" class="muted">{{ l.label }} is not on the picture: {{ l.why }}</p>
      </div>
      <PairsTable v-if="overlay.pairs?.length" :overlay="overlay" />
      <div v-else-if="overlay.figures.length" class="panel scroll">
        <h2>Figures and their spread</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>figure</th>
              <th class="right">runs</th>
              <th class="right">mean</th>
              <th class="right">spread</th>
              <th class="right">sd</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in overlay.figures" :key="f.title">
              <td>
                <strong>{{ f.title }}</strong>
              </td>
              <td class="right">{{ f.values.length }}</td>
              <td class="right">{{ short(f.mean) }} {{ f.unit }}</td>
              <td class="right">{{ f.spread === null ? '—' : `${short(f.spread)} %` }}</td>
              <td class="right">{{ f.sd === null ? '—' : `${short(f.sd)} %` }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <div v-if="overlay.differences.length" class="panel scroll">
        <h2>Differences from {{ overlay.reference }}</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>curve</th>
              <th class="right">mean ({{ overlay.yUnit }})</th>
              <th class="right">rms ({{ overlay.yUnit }})</th>
              <th class="right">largest ({{ overlay.yUnit }})</th>
              <th class="right">at ({{ overlay.xUnit }})</th>
              <th class="right">end ({{ overlay.xUnit }})</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="d in overlay.differences" :key="d.label">
              <td>
                <strong>{{ d.label }}</strong>
              </td>
              <td class="right">{{ short(d.mean) }}</td>
              <td class="right">{{ short(d.rms) }}</td>
              <td class="right">{{ short(d.largest) }}</td>
              <td class="right">{{ short(d.at) }}</td>
              <td class="right">{{ short(d.end) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(140px, 1fr));
  gap: 12px;
  align-items: center;
}
.chips {
  display: flex;
  gap: 8px;
  flex-wrap: wrap;
  align-items: center;
}
</style>
