<script setup lang="ts">
import { mdiKeyboardOutline, mdiLogout, mdiThemeLightDark } from '@mdi/js'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'

import HeldNote from './parts/HeldNote.vue'
import KillBar from './parts/KillBar.vue'
import KeysList from './parts/KeysList.vue'
import LanternMark from './parts/LanternMark.vue'
import PlacesBar from './parts/PlacesBar.vue'
import StillThereNote from './parts/StillThereNote.vue'
import { listen } from './parts/keys'
import { useLive } from './parts/live'
import { useSession } from './parts/session'
import { timeOfDay } from './parts/format'

const session = useSession()
const live = useLive()
const route = useRoute()
const router = useRouter()
const theme = useTheme()

const liveCount = computed(() => live.list.filter((b) => b.state === 'live').length)
// The latch of the house is on every bay.
const held = computed(() => live.list.find((b) => b.held?.house)?.held)
const asking = computed(() =>
  live.list.flatMap((bay) => (bay.stillThere ? [{ bay, offAt: bay.stillThere.offAt }] : [])),
)
const places = computed(() => [
  {
    name: 'floor',
    title: 'Floor',
    note: liveCount.value ? `${liveCount.value} live` : '',
    on: route.name === 'floor' || route.name === 'bay' || route.name === 'manual',
  },
  { name: 'line', title: 'Line', note: '', on: route.name === 'line' },
  { name: 'operate', title: 'Operate', note: '', on: route.name === 'operate' },
  { name: 'lots', title: 'Lots', note: '', on: ['lots', 'lot', 'unit'].includes(String(route.name)) },
  { name: 'procedures', title: 'Procedures', note: '', on: route.name === 'procedures' || route.name === 'procedure' },
  { name: 'nameplates', title: 'Nameplates', note: '', on: route.name === 'nameplates' },
  { name: 'bench', title: 'Bench', note: '', on: route.name === 'bench' || route.name === 'instrument' },
  { name: 'runs', title: 'Runs', note: '', on: route.name === 'runs' || route.name === 'run' },
  { name: 'overlay', title: 'Overlay', note: '', on: route.name === 'overlay' },
  { name: 'cells', title: 'Cells', note: '', on: route.name === 'cells' },
  { name: 'office', title: 'Office', note: '', on: route.name === 'office' },
])

watch(
  () => session.account,
  (account) => (account ? live.start() : live.stop()),
  { immediate: true },
)

function toggleTheme() {
  const next = theme.global.current.value.dark ? 'light' : 'dark'
  theme.change(next)
  localStorage.setItem('theme', next)
}

const keys = ref(false)
onUnmounted(
  listen(router, {
    list: () => (keys.value = true),
    theme: toggleTheme,
    bays: () => live.list.map((b) => b.name),
  }),
)

async function leave() {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <v-app>
    <KillBar v-if="session.account" />
    <div v-if="session.account && !route.meta.open && !route.meta.whole" class="frame">
      <nav aria-label="Places">
        <router-link class="mark" to="/"><LanternMark />Usher Bench</router-link>
        <PlacesBar :places="places" />
        <span class="grow" />
        <div class="account muted">
          <span :title="`role ${session.account.role}`">{{ session.account.name }}</span>
          <v-btn
            :icon="mdiThemeLightDark"
            variant="text"
            size="small"
            aria-label="Switch between light and dark"
            @click="toggleTheme"
          />
          <v-btn
            :icon="mdiKeyboardOutline"
            variant="text"
            size="small"
            aria-label="Keys, also by ?"
            class="keys"
            @click="keys = true"
          />
          <v-btn :icon="mdiLogout" variant="text" size="small" aria-label="Sign out" @click="leave" />
        </div>
      </nav>
      <main>
        <div v-if="!live.connected" class="stale" role="alert">
          ■ No contact with the service since {{ timeOfDay(new Date(live.heardAt)) }}. Readouts are hidden until it
          answers; the service and the bench go on without the console.
        </div>
        <div v-if="held || asking.length" class="notes">
          <HeldNote v-if="held" :held="held" />
          <StillThereNote v-for="a in asking" :key="a.bay.name" :bay="a.bay" :off-at="a.offAt" />
        </div>
        <router-view />
      </main>
    </div>
    <router-view v-else />
    <KeysList v-model="keys" />
  </v-app>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template-columns: 200px minmax(0, 1fr);
  min-height: 100vh;
}
nav {
  padding: 20px 12px;
  border-right: 1px solid var(--line);
  display: flex;
  flex-direction: column;
  gap: 2px;
  position: sticky;
  top: 0;
  height: 100vh;
}
.mark {
  display: flex;
  align-items: center;
  gap: 10px;
  font-weight: 650;
  font-size: 16px;
  padding: 0 10px 22px;
  color: var(--ink);
  text-decoration: none;
}
.account {
  display: flex;
  align-items: center;
  padding-left: 12px;
}
.account span {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
main {
  min-width: 0;
}
.notes {
  display: grid;
  gap: 8px;
  padding: 14px 26px 0;
}
.stale {
  background: var(--fail-fill);
  color: var(--fail);
  padding: 10px 26px;
  font-weight: 550;
  position: sticky;
  top: 0;
  z-index: 5;
}
@media (max-width: 900px) {
  .frame {
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: auto 1fr;
  }
  nav {
    flex-direction: row;
    align-items: center;
    position: static;
    height: auto;
    padding: 8px 10px;
    border-right: 0;
    border-bottom: 1px solid var(--line);
  }
  .mark {
    padding: 0 8px;
    font-size: 0;
    gap: 0;
  }
  .account span,
  .account .keys,
  nav > .grow {
    display: none;
  }
}
</style>
