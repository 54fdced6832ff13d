<script setup lang="ts">
import { api, type Held } from '../api'
import ActNote from './ActNote.vue'
import { timeOfDay } from './format'

// A latch: since when and why nothing goes on by itself, and the button with which a person says that it may.
const props = defineProps<{ held: Held; bay?: string }>()
const goOn = () => (props.held.house || !props.bay ? api.goOn(props.held.at) : api.goOnBay(props.bay, props.held.at))
</script>

<template>
  <ActNote label="Go on" :act="goOn" data-test="held">
    ‖ <strong>Held</strong> since {{ timeOfDay(held.at) }}: {{ held.why }}.
    <template v-if="held.house">No output can be switched on in any bay until somebody has looked around.</template>
    <template v-else>What waits in its line begins when somebody has looked.</template>
  </ActNote>
</template>
