<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { api } from '../api'
import GateForm from './GateForm.vue'

const route = useRoute()
const ready = (name: string, password: string) => name !== '' && password !== ''
// Only a path of the console itself is gone on to.
const next = computed(() => {
  const path = String(route.query.next ?? '/')
  return path.startsWith('/') && !path.startsWith('//') ? path : '/'
})
</script>

<template>
  <GateForm label="Sign in" :ready="ready" :enter="api.signIn" :next="next" />
</template>
