<script setup lang="ts">
import { ref } from 'vue'

import { api, type Bay } from '../api'
import { useSession } from './session'
import ProblemNote from './ProblemNote.vue'
import { timeOfDay } from './format'

// The question whether somebody is there whose outputs are on by hand.
const props = defineProps<{ bay: Bay; offAt: string }>()
const session = useSession()
const busy = ref(false)
const error = ref<unknown>(null)

async function here() {
  busy.value = true
  error.value = null
  try {
    await api.stillThere(props.bay.name)
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="asks" role="alert" data-test="still-there">
    <span class="words"
      >■ <strong>{{ bay.title }}: are you still there?</strong> Its outputs are on by hand and go off at
      {{ timeOfDay(offAt) }}.</span
    >
    <v-btn :disabled="!session.mayOperate" :loading="busy" @click="here">I am here</v-btn>
  </div>
  <ProblemNote :error="error" />
</template>

<style scoped>
.asks {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  background: var(--fail-fill);
  color: var(--fail);
  border-radius: 8px;
  padding: 8px 14px;
}
.words {
  flex: 1 1 320px;
}
</style>
