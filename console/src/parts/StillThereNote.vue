<script setup lang="ts">
import { api, type Bay } from '../api'
import ActNote from './ActNote.vue'
import { timeOfDay } from './format'

// The question whether somebody is there whose outputs are on by hand.
const props = defineProps<{ bay: Bay; offAt: string }>()
const here = () => api.stillThere(props.bay.name)
</script>

<template>
  <ActNote label="I am here" :act="here" urgent>
    ■ <strong>{{ bay.title }}: are you still there?</strong> Its outputs are on by hand and go off at
    {{ timeOfDay(offAt) }}.
  </ActNote>
</template>
