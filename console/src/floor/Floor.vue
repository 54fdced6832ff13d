<script setup lang="ts">
import { computed, onUnmounted, reactive, ref } from 'vue'

import { api, type Frames } from '../api'
import BayTile from './BayTile.vue'
import FirstSteps from './FirstSteps.vue'
import ConfirmButton from '../parts/ConfirmButton.vue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { counted } from '../parts/format'

const live = useLive()
const session = useSession()
const error = ref<unknown>(null)

// The last frames of each bay, for the miniature curves.
const kept = 160
const curves = reactive(new Map<string, { run: string; values: (number | null)[] }>())
const unlisten = live.listen({
  frames(f: Frames) {
    const i = Math.max(f.columns.indexOf('load.amps'), 0)
    const before = curves.get(f.bay)
    const values = before?.run === f.run ? before.values : []
    curves.set(f.bay, { run: f.run, values: [...values, ...(f.values[i] ?? [])].slice(-kept) })
  },
})
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
        :curve="curves.get(b.name)?.values ?? []"
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
