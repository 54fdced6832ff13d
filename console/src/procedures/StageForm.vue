<script setup lang="ts">
import { computed } from 'vue'

import { type Field, fieldsOf, withField } from './document'

// The values of one stage as a form. It edits the text where each value stands; comments and everything else stay.
const props = defineProps<{ line: number }>()
const text = defineModel<string>({ required: true })
const fields = computed(() => fieldsOf(text.value, props.line))

function change(f: Field, value: string) {
  if (value !== f.text && value.trim() !== '') text.value = withField(text.value, f, value.trim())
}
</script>

<template>
  <div class="form" data-test="stage-form">
    <v-text-field
      v-for="f in fields"
      :key="f.label"
      :model-value="f.text"
      :label="f.label"
      density="compact"
      hide-details
      @change="change(f, ($event.target as HTMLInputElement).value)"
      @keydown.enter="($event.target as HTMLInputElement).blur()"
    />
    <p v-if="!fields.length" class="muted">This stage has no values of its own in this text.</p>
  </div>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
  gap: 10px;
  padding: 10px 0 4px;
}
</style>
