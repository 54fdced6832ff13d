<script setup lang="ts">
import { ref } from 'vue'

import { vFocus } from './focus'

// A button that asks once, with the consequence in the question.
defineProps<{
  label: string
  question: string
  consequence: string
  act: () => Promise<void>
  disabled?: boolean
  keep?: string // what the button says that changes nothing
  stops?: boolean // on a phone it stays within reach of the thumb
}>()
const open = ref(false)
const busy = ref(false)

async function go(act: () => Promise<void>) {
  busy.value = true
  try {
    await act()
  } finally {
    busy.value = false
    open.value = false
  }
}
</script>

<template>
  <v-btn class="danger" :class="{ 'at-thumb': stops }" :disabled="disabled" @click="open = true">{{ label }}</v-btn>
  <v-dialog v-model="open" max-width="440">
    <v-card class="pa-5">
      <p class="question">{{ question }}</p>
      <p class="muted mt-2">{{ consequence }}</p>
      <div class="d-flex ga-3 mt-5 justify-end">
        <v-btn :disabled="busy" @click="open = false">{{ keep ?? 'Keep running' }}</v-btn>
        <v-btn v-focus class="danger" data-test="confirm" :loading="busy" @click="go(act)">{{ label }}</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.question {
  font-size: 16px;
  font-weight: 620;
}
</style>
