<script setup lang="ts">
import { onUnmounted, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type RunSummary } from '../api'
import ImportPanel from './ImportPanel.vue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateChip from '../parts/StateChip.vue'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { dateTime, seconds, stateOf } from '../parts/format'

const route = useRoute()
const router = useRouter()
const live = useLive()
const session = useSession()
const importing = ref(false)
const picked = ref<string[]>([])
const overlay = () => void router.push({ name: 'overlay', query: { runs: picked.value.join(','), over: 'charge' } })
const pageSize = 50
const names = ['serial', 'procedure', 'bay', 'lot', 'outcome'] as const
// The filter lives in the address, so that a filtered list can be linked to.
const filter = reactive(
  Object.fromEntries(names.map((n) => [n, String(route.query[n] ?? '')])) as Record<(typeof names)[number], string>,
)
const outcomes = [
  { title: 'any outcome', value: '' },
  ...['pass', 'marginal', 'fail', 'aborted', 'undetermined'].map((o) => ({ title: o, value: o })),
]
const runs = ref<RunSummary[]>([])
const more = ref(false)
const loading = ref(true)
const loaded = ref(false)
const error = ref<unknown>(null)
let timer = 0
let newest = 0

const chosen = () => Object.fromEntries(Object.entries(filter).filter(([, v]) => v))

async function load(before?: string) {
  const mine = ++newest // an answer to an earlier filter comes too late to be shown
  loading.value = true
  error.value = null
  try {
    const page = await api.runs({ ...chosen(), limit: String(pageSize), ...(before ? { before } : {}) })
    if (mine !== newest) return
    runs.value = before ? [...runs.value, ...page] : page
    more.value = page.length === pageSize
    loaded.value = true
  } catch (e) {
    if (mine === newest) error.value = e
  } finally {
    if (mine === newest) loading.value = false
  }
}

watch(filter, () => {
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    void router.replace({ query: chosen() })
    void load()
  }, 250)
})
onUnmounted(live.listen({ run: () => void load(), gap: () => void load() }))
onUnmounted(() => clearTimeout(timer))
void load()

const open = (r: RunSummary) => void router.push({ name: 'run', params: { run: r.id } })
</script>

<template>
  <div class="page">
    <header>
      <h1>Runs</h1>
      <span v-if="loaded" class="muted">{{ runs.length }}{{ more ? ' and more' : '' }}</span
      ><span class="grow" />
      <v-btn v-if="session.mayEngineer" variant="text" data-test="import-open" @click="importing = !importing"
        >Import a log</v-btn
      >
      <v-btn :disabled="picked.length < 1" data-test="overlay" @click="overlay"
        >Overlay {{ picked.length || '' }}</v-btn
      >
    </header>
    <ImportPanel v-if="importing" />
    <div class="filters">
      <v-text-field
        v-model="filter.serial"
        label="Serial number"
        hide-details
        clearable
        density="compact"
        @click:clear="filter.serial = ''"
      />
      <v-text-field v-model="filter.procedure" label="Procedure" hide-details density="compact" />
      <v-text-field v-model="filter.bay" label="Bay" hide-details density="compact" />
      <v-text-field v-model="filter.lot" label="Lot" hide-details density="compact" />
      <v-select v-model="filter.outcome" :items="outcomes" label="Outcome" hide-details density="compact" />
    </div>
    <ProblemNote :error="error" />
    <EmptyPlace
      v-if="!loading && !error && !runs.length && !Object.keys(chosen()).length"
      title="No run on record"
      about="Here every run stays: its curves, figures with limits and outcome, points, marks, and everything to
        download. It is where one answers what happened."
    >
      Start the first one from a bay on the <router-link :to="{ name: 'floor' }">floor</router-link>, or import a log
      that other equipment wrote.
    </EmptyPlace>
    <div v-else class="panel scroll">
      <table class="plain cards" data-test="runs">
        <thead>
          <tr>
            <th />
            <th>started</th>
            <th>unit</th>
            <th>lot</th>
            <th>procedure</th>
            <th>bay</th>
            <th>operator</th>
            <th class="right">duration</th>
            <th>outcome</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in runs" :key="r.id" class="link" tabindex="0" @click="open(r)" @keydown.enter="open(r)">
            <td @click.stop>
              <input v-model="picked" type="checkbox" :value="r.id" :aria-label="`Choose the run of ${r.serial}`" />
            </td>
            <td class="later">{{ dateTime(r.startedAt) }}</td>
            <td class="first">
              <strong>{{ r.serial }}</strong>
            </td>
            <td class="muted optional">{{ r.lot || '—' }}</td>
            <td>
              {{ r.procedure }} <span class="muted">rev {{ r.revision }}</span>
            </td>
            <td>{{ r.bay }}</td>
            <td class="muted">{{ r.operator }}</td>
            <td class="right">{{ r.state === 'live' ? '—' : seconds(r.duration) }}</td>
            <td class="second"><StateChip :state="stateOf(r) || r.state" /></td>
          </tr>
        </tbody>
      </table>
      <p v-if="!loaded && !error" class="muted pa-2">Asking the service …</p>
      <p v-else-if="loaded && !loading && runs.length === 0" class="muted pa-2">No run matches. Change the filter.</p>
    </div>
    <div v-if="more"><v-btn :loading="loading" @click="load(runs.at(-1)?.id)">Show older runs</v-btn></div>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 1fr));
  gap: 12px;
}
</style>
