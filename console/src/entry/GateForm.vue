<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import type { Account } from '../api'
import { useSession } from '../parts/session'
import { loadCatalogue } from '../parts/catalogue'
import { vFocus } from '../parts/focus'
import LanternMark from '../parts/LanternMark.vue'
import ProblemNote from '../parts/ProblemNote.vue'

// The form before the console: it asks for name and password and lets in.
const props = defineProps<{
  label: string
  ready: (name: string, password: string) => boolean
  enter: (name: string, password: string) => Promise<Account>
  next: string
  fresh?: boolean
}>()
const router = useRouter()
const session = useSession()
const name = ref('')
const password = ref('')
const error = ref<unknown>(null)
const busy = ref(false)

async function submit() {
  busy.value = true
  error.value = null
  try {
    const account = await props.enter(name.value, password.value)
    await loadCatalogue()
    session.account = account
    await router.replace(props.next)
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
      <slot />
      <v-text-field v-model="name" v-focus label="Account" name="name" autocomplete="username" />
      <v-text-field
        v-model="password"
        label="Password"
        name="password"
        type="password"
        :autocomplete="fresh ? 'new-password' : 'current-password'"
        :hint="fresh ? 'At least 10 characters; a few words are easy to remember' : undefined"
        :persistent-hint="fresh"
      />
      <ProblemNote :error="error" />
      <v-btn
        type="submit"
        variant="flat"
        color="primary"
        block
        size="large"
        :loading="busy"
        :disabled="!ready(name, password)"
        >{{ label }}</v-btn
      >
    </form>
  </div>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: 16px;
}
form {
  width: min(370px, 100%);
  display: grid;
  gap: 12px;
  padding: 28px;
}
.mark {
  display: flex;
  gap: 10px;
  align-items: center;
  font-weight: 650;
  font-size: 17px;
  margin-bottom: 8px;
}
</style>
