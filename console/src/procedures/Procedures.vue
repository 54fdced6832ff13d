<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type Nameplate, type Procedure } from '../api'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../parts/session'
import { dateTime } from '../parts/format'

const session = useSession()
const router = useRouter()
const procedures = ref<Procedure[]>([])
const ready = ref<Procedure[]>([])
const loaded = ref(false)
const error = ref<unknown>(null)
const search = ref('')
// A nameplate that was just written leads here, with what its first run begins from.
const query = useRoute().query
const text = (of: unknown) => (typeof of === 'string' ? of : '')
const name = ref(query.for ? `${text(query.for)}-first` : '')
const base = ref<string | null>(text(query.from) || null)
const plate = ref(text(query.for))
const plates = ref<Nameplate[]>([])
const starting = ref(Boolean(query.from))

async function load() {
  try {
    ;[procedures.value, ready.value, plates.value] = await Promise.all([
      api.procedures(),
      api.ready(),
      api.nameplates(),
    ])
    loaded.value = true
  } catch (e) {
    error.value = e
  }
}
void load()

const shown = computed(() =>
  procedures.value.filter((p) => `${p.name} ${p.title} ${p.for}`.toLowerCase().includes(search.value.toLowerCase())),
)
const bases = computed(() => [
  ...procedures.value.map((p) => ({ title: `${p.name} · ${p.title}`, value: p.name })),
  ...ready.value
    .filter((r) => !procedures.value.some((p) => p.name === r.name))
    .map((r) => ({ title: `${r.name} · ${r.title} (ready)`, value: r.name })),
])
const sound = computed(
  () => /^[a-z][a-z0-9-]{0,62}$/.test(name.value) && !procedures.value.some((p) => p.name === name.value),
)
const begin = () =>
  void router.push({
    name: 'procedure',
    params: { name: name.value },
    query: { from: base.value ?? '', for: plate.value },
  })
</script>

<template>
  <div class="page">
    <header>
      <h1>Procedures</h1>
      <span v-if="loaded" class="muted">{{ procedures.length }}</span><span class="grow" />
      <v-btn v-if="session.mayEngineer" variant="flat" color="primary" data-test="new" @click="starting = !starting"
        >New procedure</v-btn
      >
    </header>
    <ProblemNote :error="error" />
    <p v-if="!loaded && !error" class="muted">Asking the service …</p>
    <form v-if="starting" class="panel new" @submit.prevent="begin">
      <v-select v-model="base" :items="bases" label="Begin from" hide-details />
      <v-select
        v-model="plate"
        :items="[{ title: 'the units that it was for', value: '' }, ...plates.map((p) => p.name)]"
        label="For"
        name="for"
        hide-details
      />
      <v-text-field v-model="name" label="Name" name="name" hide-details placeholder="tern-my-test" />
      <v-btn type="submit" variant="flat" color="primary" :disabled="!sound || !base" data-test="begin">Edit</v-btn>
      <p class="muted">Small letters, digits and hyphens. The copy is stored when you save it.</p>
    </form>
    <EmptyPlace
      v-if="loaded && !procedures.length"
      title="No procedure yet"
      about="A procedure says how a type of unit is tested: what is set, for how long, until when, what is
        measured, what is a pass. It is kept in revisions; each is checked and can be rehearsed on a model
        before it touches hardware."
    >
      Begin from a ready one, or push a file with <code>usher procedure push FILE</code>.
    </EmptyPlace>
    <div v-else-if="loaded" class="panel">
      <v-text-field v-model="search" label="Search" density="compact" hide-details class="mb-3" />
      <table v-if="shown.length" class="plain">
        <thead>
          <tr>
            <th>Procedure</th>
            <th>For</th>
            <th>Title</th>
            <th class="right">Rev</th>
            <th>By</th>
            <th>At</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in shown" :key="p.name">
            <td>
              <router-link :to="{ name: 'procedure', params: { name: p.name } }">{{ p.name }}</router-link>
            </td>
            <td>{{ p.for }}</td>
            <td>{{ p.title }}</td>
            <td class="right">{{ p.revision }}</td>
            <td class="muted">{{ p.by }}</td>
            <td class="muted nowrap">{{ dateTime(p.at) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="loaded" class="muted">Nothing matches the search.</p>
    </div>
  </div>
</template>

<style scoped>
.new {
  display: grid;
  grid-template-columns: minmax(220px, 2fr) minmax(140px, 1fr) minmax(160px, 1fr) auto;
  gap: 12px;
  align-items: center;
}
.new p {
  grid-column: 1 / -1;
  margin: 0;
}
a {
  color: var(--ink);
  font-weight: 600;
}
.nowrap {
  white-space: nowrap;
}
@media (max-width: 700px) {
  .new {
    grid-template-columns: 1fr;
  }
}
</style>
