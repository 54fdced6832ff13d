<script setup lang="ts">
import { useRoute } from 'vue-router'

import { api } from '../api'
import GateForm from './GateForm.vue'

const code = String(useRoute().query.code ?? '')
const ready = (name: string, password: string) => name !== '' && password.length >= 10
const enter = (name: string, password: string) => api.setUp(code, name, password)
</script>

<template>
  <GateForm v-if="code" label="Make the account" :ready="ready" :enter="enter" next="/" fresh>
    <p class="muted">Make the first account. It may do everything, and add the others.</p>
  </GateForm>
  <div v-else class="page">
    <p>There is no account yet. Open the set-up link that the service printed when it started.</p>
  </div>
</template>
