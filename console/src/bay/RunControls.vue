<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type Bay, type Intervention } from '../api'
import { useRequest } from '../parts/request'
import { seconds } from '../parts/format'
import { vFocus } from '../parts/focus'
import ProblemNote from '../parts/ProblemNote.vue'

// What people do to a run while it goes on. Guards are watched whatever is done here.
const props = defineProps<{ bay: Bay; disabled: boolean }>()
const open = ref<'' | 'note' | 'state' | 'extend' | 'skip' | 'adjust'>('')
const note = ref('')
const state = ref('')
const states = ref<string[]>([]) // that were said here, to be said again with one press
const minutes = ref('10')
const values = ref<Record<string, string>>({})
const can = computed(() => props.bay.progress?.can ?? [])
const paused = computed(() => props.bay.progress?.paused ?? false)

// What is done from a panel that is open; pausing has none, and its answer touches none.
const doing = useRequest((i: Intervention) => api.intervene(props.bay.name, i))
const pausing = useRequest((i: Intervention) => api.intervene(props.bay.name, i))
const error = computed(() => doing.error.value ?? pausing.error.value)

async function act(i: Intervention) {
  const asked = open.value
  if (!(await doing.run(i))) return
  if (i.do === 'note') note.value = ''
  if (i.do === 'label') {
    if (i.text && !states.value.includes(i.text)) states.value.push(i.text)
    state.value = ''
    return // the next one is not far
  }
  if (open.value === asked) open.value = '' // something else may have been opened meanwhile
}
const toggle = (what: typeof open.value) => {
  open.value = open.value === what ? '' : what
}
const parsed = computed(() => Number(minutes.value.replace(',', '.').replace('−', '-')) * 60)
</script>

<template>
  <div class="panel controls" data-test="run-controls">
    <div class="row acts">
      <v-btn
        v-if="!paused"
        size="small"
        data-test="pause"
        :disabled="disabled"
        :loading="pausing.busy.value"
        @click="pausing.run({ do: 'pause' })"
        >Pause</v-btn
      >
      <v-btn
        v-else
        size="small"
        variant="flat"
        color="primary"
        data-test="resume"
        :disabled="disabled"
        :loading="pausing.busy.value"
        @click="pausing.run({ do: 'resume' })"
        >Go on</v-btn
      >
      <v-btn size="small" data-test="note" :disabled="disabled" @click="toggle('note')">Note</v-btn>
      <v-btn size="small" data-test="state" :disabled="disabled" @click="toggle('state')">State</v-btn>
      <v-btn
        v-if="can.includes('extend')"
        size="small"
        data-test="extend"
        :disabled="disabled"
        @click="toggle('extend')"
        >Longer</v-btn
      >
      <v-btn v-if="can.includes('skip')" size="small" data-test="skip" :disabled="disabled" @click="toggle('skip')"
        >Skip stage</v-btn
      >
      <v-btn
        v-if="bay.adjustable?.length"
        size="small"
        data-test="adjust"
        :disabled="disabled"
        @click="toggle('adjust')"
        >Adjust</v-btn
      >
      <span v-if="paused" class="paused">‖ paused: setpoints stay, guards go on</span>
    </div>
    <form v-if="open === 'note'" class="row" @submit.prevent="act({ do: 'note', text: note })">
      <v-text-field v-model="note" v-focus label="Note at this instant" density="compact" hide-details name="note" />
      <v-btn type="submit" size="small" :disabled="!note.trim()">Write</v-btn>
    </form>
    <form v-if="open === 'state'" class="row" @submit.prevent="act({ do: 'label', text: state })">
      <v-btn
        v-for="s in states"
        :key="s"
        size="small"
        :data-test="`state-${s}`"
        :disabled="doing.busy.value"
        @click="act({ do: 'label', text: s })"
        >{{ s }}</v-btn
      >
      <v-text-field
        v-model="state"
        v-focus
        label="The unit is from now on in the state"
        density="compact"
        hide-details
        name="state"
      />
      <v-btn type="submit" size="small" :disabled="!state.trim()">Say so</v-btn>
    </form>
    <form v-if="open === 'extend'" class="row" @submit.prevent="act({ do: 'extend', seconds: parsed })">
      <v-text-field
        v-model="minutes"
        label="Minutes more, or less with a minus"
        density="compact"
        hide-details
        name="minutes"
      />
      <v-btn type="submit" size="small" :disabled="!parsed"
        >Change by {{ parsed ? (parsed < 0 ? '−' : '+') + seconds(Math.abs(parsed)) : '—' }}</v-btn
      >
    </form>
    <div v-if="open === 'skip'" class="row">
      <span>End {{ bay.progress?.name }} now, as if it had reached what it waits for?</span>
      <v-btn size="small" variant="flat" color="primary" data-test="confirm-skip" @click="act({ do: 'skip' })"
        >Skip</v-btn
      >
    </div>
    <template v-if="open === 'adjust'">
      <form
        v-for="a in bay.adjustable ?? []"
        :key="a.name"
        class="row"
        @submit.prevent="act({ do: 'adjust', parameter: a.name, value: values[a.name] ?? a.value })"
      >
        <v-text-field
          :model-value="values[a.name] ?? a.value"
          :label="a.about ? `${a.name}: ${a.about}` : a.name"
          :hint="[a.min, a.max].filter(Boolean).join(' to ')"
          persistent-hint
          density="compact"
          @update:model-value="values[a.name] = String($event)"
        />
        <v-btn type="submit" size="small">Change</v-btn>
      </form>
    </template>
    <ProblemNote :error="error" />
  </div>
</template>

<style scoped>
.controls {
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.row {
  display: flex;
  gap: 8px 10px;
  align-items: center;
  flex-wrap: wrap;
}
.row .v-text-field {
  max-width: 360px;
  min-width: 220px;
}
/* What is beside it stays where it is when a pause begins or ends. */
.acts > :first-child {
  min-width: 84px;
}
.paused {
  color: var(--marginal);
  font-weight: 600;
}
</style>
