<script setup lang="ts">
import { computed, onUnmounted, reactive, ref } from 'vue'

import { api, type Frames } from '../api'
import BayTile, { type Shown } from './BayTile.vue'
import FirstSteps from './FirstSteps.vue'
import ConfirmButton from '../parts/ConfirmButton.vue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { drains } from '../parts/catalogue'
import { counted, quantityOf, seatOf } from '../parts/format'

const live = useLive()
const session = useSession()
const error = ref<unknown>(null)

// The last frames of each bay, for the miniature curves.
const kept = 160
type Curve = Record<'amps' | 'volts', (number | null)[]>
const curves = reactive(new Map<string, { run: string; of: Curve }>())
const unlisten = live.listen({
  frames(f: Frames) {
    const before = curves.get(f.bay)
    const column = (q: keyof Curve) => {
      const seats = f.columns.filter((c) => quantityOf(c) === q).map(seatOf)
      const seat = seats.find(drains) ?? seats[0]
      const fresh = f.values[f.columns.indexOf(`${seat}.${q}`)] ?? []
      return [...(before?.run === f.run ? before.of[q] : []), ...fresh].slice(-kept)
    }
    curves.set(f.bay, { run: f.run, of: { amps: column('amps'), volts: column('volts') } })
  },
})

// What the miniature curves show, kept in this browser.
const shows: { value: Shown; title: string }[] = [
  { value: 'amps', title: 'Amps' },
  { value: 'volts', title: 'Volts' },
  { value: 'rated', title: 'Deviation of volts from rated' },
  { value: 'mean', title: 'Deviation of volts from their mean' },
]
const shown = ref<Shown>(shows.find((s) => s.value === localStorage.getItem('floor-curve'))?.value ?? 'amps')
function show(what: Shown) {
  shown.value = what
  localStorage.setItem('floor-curve', what)
}
onUnmounted(unlisten)

const liveCount = computed(() => live.list.filter((b) => b.state === 'live').length)
const energised = computed(() => live.list.filter((b) => !b.safeSince).length)

async function stopAll() {
  error.value = null
  try {
    await api.stopAll()
  } catch (e) {
    error.value = e
  }
}
</script>

<template>
  <div class="page">
    <header>
      <h1>Floor</h1>
      <span v-if="live.loaded && live.connected && !live.list.length" />
      <span v-else-if="live.loaded && live.connected" class="muted"
        >{{ counted(live.list.length, 'bay') }} · {{ liveCount }} live ·
        {{ energised ? `outputs on or not yet confirmed off: ${energised}` : 'every output confirmed off' }}</span
      ><span v-else class="muted">whether outputs are on is not known here now</span>
      <span class="grow" />
      <v-menu v-if="live.list.length"
        ><template #activator="{ props: menu }"
          ><v-btn v-bind="menu" variant="text" data-test="floor-curve">{{
            shows.find((s) => s.value === shown)?.title
          }}</v-btn></template
        >
        <v-list density="compact">
          <v-list-item
            v-for="s in shows"
            :key="s.value"
            :title="s.title"
            :active="shown === s.value"
            :data-test="`floor-curve-${s.value}`"
            @click="show(s.value)"
          /> </v-list
      ></v-menu>
      <ConfirmButton
        stops
        label="Stop all and make safe"
        question="Stop every run and switch every output off?"
        :consequence="
          liveCount
            ? `${liveCount} live runs end as aborted; their records are kept. Nothing goes on before somebody says so.`
            : 'No run is live; outputs are switched off and read back. Nothing goes on before somebody says so.'
        "
        :disabled="!session.mayOperate"
        :act="stopAll"
      />
    </header>
    <ProblemNote :error="error" />
    <FirstSteps />
    <div v-if="!live.loaded" class="muted">Asking the service for its bays …</div>
    <EmptyPlace
      v-else-if="live.list.length === 0"
      title="No bay yet"
      about="Here every bay has a tile: the unit, the procedure, how far it is, and its live curve. A bay is a
        place where one unit at a time is tested, with instruments in its seats."
    >
      Add instruments by their address on the <router-link :to="{ name: 'bench' }">bench</router-link>, then a bay with
      what fills its seats; or describe both in usher.yaml before the service starts.
    </EmptyPlace>
    <div class="tiles">
      <BayTile
        v-for="b in live.list"
        :key="b.name"
        :bay="b"
        :fresh="live.connected"
        :curve="curves.get(b.name)?.of ?? { amps: [], volts: [] }"
        :shown="shown"
      />
    </div>
  </div>
</template>

<style scoped>
.tiles {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(420px, 100%), 1fr));
  gap: var(--gap);
}
</style>
