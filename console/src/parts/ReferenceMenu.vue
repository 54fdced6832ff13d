<script setup lang="ts">
import { computed } from 'vue'

import type { Line } from './TraceChart.vue'
import { type Rated, type Reference, references } from './panels'

// What the traces of a picture are drawn less of, so that a small deviation is seen beside a large swing.
const props = defineProps<{ lines: Line[]; rated: Rated }>()
const reference = defineModel<Reference>({ required: true })
const choices = computed(() => references(props.lines, props.rated))
</script>

<template>
  <v-menu
    ><template #activator="{ props: menu }"
      ><v-btn v-bind="menu" size="small" data-test="reference">{{
        reference ? 'Deviations' : 'Values'
      }}</v-btn></template
    >
    <v-list density="compact">
      <v-list-item
        v-for="c in choices"
        :key="c.value"
        :title="c.title"
        :active="reference === c.value"
        :data-test="`reference-${c.value || 'values'}`"
        @click="reference = c.value"
      /> </v-list
  ></v-menu>
</template>
