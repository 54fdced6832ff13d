<script setup lang="ts">
import { ref } from 'vue'

import { api, type Held } from '../api'
import { useSession } from './session'
import ProblemNote from './ProblemNote.vue'
import { timeOfDay } from './format'

// A latch: since when and why nothing goes on by itself, and the button with which a person says that it may.
const props = defineProps<{ held: Held; bay?: string }>()
const session = useSession()
const busy = ref(false)
const error = ref<unknown>(null)

async function goOn() {
  busy.value = true
  error.value = null
  try {
    await (props.held.house || !props.bay ? api.goOn() : api.goOnBay(props.bay))
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="held" role="status" data-test="held">
    <span class="words">
      ‖ <strong>Held</strong> since {{ timeOfDay(held.at) }}: {{ held.why }}.
      <template v-if="held.house">No output can be switched on in any bay until somebody has looked around.</template>
      <template v-else>What waits in its line begins when somebody has looked.</template>
    </span>
    <v-btn :disabled="!session.mayOperate" :loading="busy" data-test="go-on" @click="goOn">Go on</v-btn>
  </div>
  <ProblemNote :error="error" />
</template>

<style scoped>
.held {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  background: var(--surface);
  border: 1px solid var(--marginal);
  border-left-width: 4px;
  border-radius: 8px;
  padding: 8px 14px;
}
.words {
  flex: 1 1 320px;
}
</style>
