<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'

import { api, type Bay } from '../api'
import { useLive } from './live'
import { useSession } from './session'
import ProblemNote from './ProblemNote.vue'

// What moves can hurt: while anything does, every view has its kill, which asks nothing. F9 kills everything that
// moves, also while somebody writes or a dialog is open.
const live = useLive()
const session = useSession()
const moving = computed(() => live.list.filter((b) => b.moving))
const error = ref<unknown>(null)
watch(moving, (m) => m.length || (error.value = null)) // what could not be killed has stopped otherwise

async function kill(bays: Bay[]) {
  const said = await Promise.allSettled(bays.map((b) => api.stop(b.name)))
  error.value = said.find((s) => s.status === 'rejected')?.reason ?? null
}
function press(e: KeyboardEvent) {
  if (e.key !== 'F9' || moving.value.length === 0 || !session.mayOperate) return
  e.preventDefault()
  e.stopImmediatePropagation()
  if (!e.repeat) void kill(moving.value)
}
window.addEventListener('keydown', press, { capture: true })
onUnmounted(() => window.removeEventListener('keydown', press, { capture: true }))
</script>

<template>
  <div v-if="moving.length || error" class="kill" role="alert" data-test="moving">
    <div v-for="b in moving" :key="b.name" class="bay">
      <span
        >▲ <strong>{{ b.title }} moves.</strong> Stay clear of it.</span
      >
      <v-btn
        class="danger"
        :disabled="!session.mayOperate"
        :data-test="`kill-${b.name}`"
        :aria-label="`Kill ${b.title}, also by F9`"
        @click="kill([b])"
      >
        Kill
      </v-btn>
    </div>
    <span class="muted">F9 kills everything that moves, in every view</span>
    <ProblemNote :error="error" />
  </div>
</template>

<style scoped>
.kill {
  position: sticky;
  top: 0;
  z-index: 2500; /* above dialogs, whose overlays begin at 2400 */
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 24px;
  padding: 8px 26px;
  background: var(--marginal-fill);
  border-bottom: 1px solid var(--marginal);
}
.bay {
  display: flex;
  align-items: center;
  gap: 14px;
}
</style>
