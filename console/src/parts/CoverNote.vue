<script setup lang="ts">
import { computed } from 'vue'

import type { Cover } from '../api'
import { fixed } from './format'

// Whether the cover over high volts may be opened: a word, a shape and a colour, and never what was true a while ago.
const props = defineProps<{ cover: Cover; fresh: boolean }>()
const kind = computed(() => (!props.fresh ? 'unknown' : props.cover.safeToOpen ? 'safe' : 'closed'))
const volts = computed(() => (props.fresh && props.cover.volts !== undefined ? `${fixed(props.cover.volts, 1)} V` : ''))
</script>

<template>
  <p class="panel cover" :class="kind" role="status" data-test="cover" :data-kind="kind">
    <template v-if="kind === 'unknown'">? <strong>Keep closed</strong>: the service does not answer</template>
    <template v-else-if="kind === 'safe'">○ <strong>Safe to open</strong></template>
    <template v-else>■ <strong>Keep closed</strong>: {{ cover.why }}</template>
    <span v-if="volts" class="volts">{{ volts }}</span>
  </p>
</template>

<style scoped>
.cover {
  display: flex;
  gap: 8px;
  align-items: baseline;
  margin: 0;
  border-color: var(--fail);
}
.cover.closed {
  color: var(--fail);
}
.cover.safe {
  border-color: var(--pass);
}
.volts {
  margin-left: auto;
  font-variant-numeric: tabular-nums;
}
</style>
