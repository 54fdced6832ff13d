<script setup lang="ts">
import { useTemplateRef } from 'vue'

// The field into which a scanner types: what it read ends with Enter.
defineProps<{ disabled?: boolean }>()
const typed = defineModel<string>({ required: true })
const emit = defineEmits<{ enter: []; esc: [] }>()
const input = useTemplateRef<HTMLInputElement>('input')
defineExpose({ focus: () => input.value?.focus() })
</script>

<template>
  <input
    ref="input"
    v-model="typed"
    class="scan"
    aria-label="Scan or type a serial number"
    placeholder="scan"
    data-test="scan"
    autocomplete="off"
    spellcheck="false"
    :disabled="disabled"
    @keydown.enter.prevent="emit('enter')"
    @keydown.esc.prevent="emit('esc')"
  />
</template>

<style scoped>
.scan {
  font: inherit;
  font-size: 24px;
  font-weight: 600;
  padding: 10px 16px;
  width: 360px;
  max-width: 100%;
  border-radius: 10px;
  border: 2px solid currentcolor;
  background: transparent;
  color: inherit;
}
.scan::placeholder {
  color: inherit;
  opacity: 0.7;
}
.scan:focus {
  outline: 3px solid var(--live-fill);
  outline-offset: 2px;
}
@media (max-width: 600px) {
  .scan {
    width: 100%;
  }
}
</style>
