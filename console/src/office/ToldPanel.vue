<script setup lang="ts">
import { onUnmounted, ref } from 'vue'

import { api, type Office, type OutboxMessage } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { counted, dateTime } from '../parts/format'
import { useLive } from '../parts/live'
import { useRequest } from '../parts/request'
import { useSession } from '../parts/session'

// Who is told of every run that ends, and what is still to be sent.
defineProps<{ disabled: boolean }>()
const session = useSession()
const live = useLive()
const office = ref<Office>({ look: {} })
const waiting = ref<OutboxMessage[]>([])
const to = ref('')
const secret = ref('')
const { error: failed, run: load } = useRequest(async () => {
  office.value = await api.office()
  if (session.mayEngineer) waiting.value = await api.outbox(true)
})
void load()
onUnmounted(live.listen({ run: () => void load(), gap: () => void load() }))
// What the office has set otherwise may have changed since: it is read first.
const {
  busy,
  error,
  run: change,
} = useRequest(async (next: (tell: NonNullable<Office['tell']>) => Office['tell']) => {
  const now = await api.office()
  office.value = await api.setOffice({ ...now, tell: next(now.tell ?? []) })
  to.value = secret.value = ''
})
const add = () => change((tell) => [...tell, { to: to.value.trim(), secret: secret.value }])
const drop = (address: string) => change((tell) => tell.filter((t) => t.to !== address))
</script>

<template>
  <div class="panel rows" data-test="told">
    <h2>Who is told of every run that ends</h2>
    <ProblemNote :error="failed ?? error" />
    <p v-if="!office.tell?.length" class="muted">Nobody yet: a webhook (https://…) or a broker of MQTT 5.</p>
    <div v-for="t in office.tell ?? []" :key="t.to" class="row">
      <span class="address">{{ t.to }}</span>
      <v-btn size="small" variant="text" :disabled="disabled || busy" @click="drop(t.to)">Tell no more</v-btn>
    </div>
    <form class="row" @submit.prevent="add">
      <v-text-field
        v-model="to"
        label="https://… or mqtt://host:1883/topic"
        hide-details
        density="compact"
        :disabled="disabled"
      />
      <v-text-field v-model="secret" label="Secret that signs" hide-details density="compact" :disabled="disabled" />
      <v-btn type="submit" :disabled="disabled || !to.trim()" :loading="busy">Tell</v-btn>
    </form>
    <p v-if="waiting.length" class="muted">{{ counted(waiting.length, 'message') }} not sent yet:</p>
    <p v-for="m in waiting.slice(0, 5)" :key="m.id" class="muted note">
      {{ m.to }} · run {{ m.run }} · tried {{ counted(m.tries, 'time') }}, again {{ dateTime(m.next) }}
      <template v-if="m.error">· {{ m.error }}</template>
    </p>
  </div>
</template>

<style scoped>
.address {
  flex: 1;
  overflow-wrap: anywhere;
}
.note {
  font-size: 12px;
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
