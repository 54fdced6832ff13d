<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api } from '../api'
import LanternMark from '../components/LanternMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useSession } from '../composables/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const code = String(route.query.code ?? '')
const name = ref('')
const password = ref('')
const error = ref<unknown>(null)
const busy = ref(false)

async function submit() {
  busy.value = true
  error.value = null
  try {
    session.account = await api.setUp(code, name.value, password.value)
    await router.replace('/')
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="gate">
    <form class="panel" @submit.prevent="submit">
      <p class="mark"><LanternMark />Usher Bench</p>
      <template v-if="code">
        <p class="muted">Make the first account. It may do everything, and add the others.</p>
        <v-text-field v-model="name" label="Account" name="name" autocomplete="username" autofocus />
        <v-text-field v-model="password" label="Password" name="password" type="password" autocomplete="new-password" hint="At least 10 characters; a few words are easy to remember" persistent-hint />
        <ProblemNote :error="error" />
        <v-btn type="submit" variant="flat" color="primary" block size="large" class="mt-3" :loading="busy" :disabled="!name || password.length < 10">Make the account</v-btn>
      </template>
      <p v-else>There is no account yet. Open the set-up link that the service printed when it started.</p>
    </form>
  </div>
</template>

<style scoped>
.gate { min-height: 100vh; display: grid; place-items: center; padding: 16px; }
form { width: min(380px, 100%); display: grid; gap: 12px; padding: 28px; }
.mark { display: flex; gap: 10px; align-items: center; font-weight: 650; font-size: 17px; margin-bottom: 8px; }
</style>
