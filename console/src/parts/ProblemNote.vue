<script setup lang="ts">
import { ApiError } from '../api'

defineProps<{ error: unknown }>()
const remedy = (e: unknown) => (e instanceof ApiError ? e.remedy : '')
const words = (e: unknown) => (e instanceof Error ? e.message : String(e))
</script>

<template>
  <div v-if="error" class="problem" role="alert">
    ■ {{ words(error) }}<template v-if="remedy(error)"> — {{ remedy(error) }}</template
    >.
  </div>
</template>

<style scoped>
.problem {
  background: var(--fail-fill);
  color: var(--fail);
  border-radius: 8px;
  padding: 10px 14px;
  font-weight: 520;
  overflow-wrap: anywhere;
}
</style>
