<script setup lang="ts">
import { ref } from 'vue'

import { useSession } from './session'
import ProblemNote from './ProblemNote.vue'

// A note with the one thing that an operator can do about it.
const props = defineProps<{ label: string; act: () => Promise<unknown>; urgent?: boolean }>()
const session = useSession()
const busy = ref(false)
const error = ref<unknown>(null)

async function go() {
  busy.value = true
  error.value = null
  try {
    await props.act()
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="whole">
    <div class="note" :class="{ urgent }" :role="urgent ? 'alert' : 'status'">
      <span class="words"><slot /></span>
      <v-btn :disabled="!session.mayOperate" :loading="busy" data-test="act" @click="go">{{ label }}</v-btn>
    </div>
    <ProblemNote :error="error" />
  </div>
</template>

<style scoped>
.whole {
  display: grid;
  gap: 8px;
}
.note {
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
.urgent {
  background: var(--fail-fill);
  border-color: var(--fail);
  color: var(--fail);
}
.words {
  flex: 1 1 320px;
}
</style>
