<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, ApiError, type PreflightFinding, type Procedure } from '../api'
import { useRequest } from '../parts/request'
import { seconds } from '../parts/format'
import FindingsList from '../parts/FindingsList.vue'
import { vFocus } from '../parts/focus'
import ProblemNote from '../parts/ProblemNote.vue'

// Three clicks to a run: choose, scan or type the serial number, start.
const props = defineProps<{
  bay: string
  seats: string[]
  disabled: boolean
  last?: { procedure: string; lot?: string }
}>()
const route = useRoute()
const procedures = ref<Procedure[]>([])
const chosen = ref<string | null>(null)
const detail = ref<Procedure | null>(null)
const serial = ref('')
const lot = ref('')
const parameters = ref<Record<string, string>>({})
const loadError = ref<unknown>(null)
const asking = ref(false)
const findings = ref<PreflightFinding[] | null>(null)
const vouched = ref<string[]>([])
const asked = computed(() => (findings.value ?? []).filter((f) => f.vouch))

// Only what the bay has seats for is offered.
const fitting = computed(() => procedures.value.filter((p) => p.seats.every((s) => props.seats.includes(s))))
const items = computed(() => fitting.value.map((p) => ({ title: `${p.name} · ${p.title}`, value: p.name })))
const changed = computed(() =>
  Object.fromEntries(
    Object.entries(parameters.value).filter(([name, text]) => text !== detail.value?.parameters?.[name]),
  ),
)

onMounted(async () => {
  try {
    procedures.value = await api.procedures()
    // A link may name the procedure; else it is that of the last run.
    const asked = route.query.procedure
    const last = fitting.value.find((p) => p.name === (typeof asked === 'string' ? asked : props.last?.procedure))
    chosen.value = (last ?? fitting.value[0])?.name ?? null
    lot.value = props.last?.lot ?? ''
  } catch (e) {
    loadError.value = e
  }
})

watch(chosen, async (name) => {
  detail.value = null
  parameters.value = {}
  if (!name) return
  try {
    const p = await api.procedure(name)
    if (name !== chosen.value) return
    detail.value = p
    parameters.value = { ...p.parameters }
  } catch (e) {
    loadError.value = e
  }
})

const request = () => ({
  bay: props.bay,
  procedure: chosen.value ?? '',
  serial: serial.value.trim(),
  lot: lot.value.trim(),
  parameters: changed.value,
  vouched: vouched.value,
})
watch([chosen, serial], () => {
  findings.value = null
  vouched.value = []
})

// check makes the preflight that every start makes, without starting.
const check = useRequest(async () => {
  const asked = request()
  const found = (await api.preflight(asked)).findings
  // They say nothing of another unit that was scanned meanwhile.
  if (asked.serial === request().serial && asked.procedure === request().procedure) findings.value = found
})

const begin = useRequest(async () => {
  try {
    await api.startRun(request())
  } catch (e) {
    if (e instanceof ApiError && e.problem.preflight) findings.value = e.problem.preflight
    throw e
  }
  serial.value = ''
  vouched.value = []
  findings.value = null
})
async function start() {
  check.error.value = null
  await begin.run()
  asking.value = false
}
// Not before its parameters are there: they move the buttons, which nobody should find somewhere else under the hand.
const ready = computed(() => !props.disabled && serial.value.trim() !== '' && detail.value !== null)
const error = computed(() => begin.error.value ?? check.error.value ?? loadError.value)
</script>

<template>
  <form class="panel start" @submit.prevent="asking = true">
    <h2>Start a run</h2>
    <div class="fields">
      <v-select v-model="chosen" :items="items" label="Procedure" hide-details />
      <v-text-field v-model="serial" v-focus label="Serial number" name="serial" hide-details />
      <v-text-field v-model="lot" label="Lot" name="lot" hide-details />
      <v-text-field
        v-for="(_, name) in parameters"
        :key="name"
        v-model="parameters[name]"
        :label="`Parameter ${name}`"
        hide-details
      />
      <v-btn
        class="check"
        size="large"
        data-test="preflight"
        :disabled="!ready"
        :loading="check.busy.value"
        @click="check.run()"
        >Preflight</v-btn
      >
      <v-btn
        type="submit"
        variant="flat"
        color="primary"
        size="large"
        data-test="start"
        :disabled="!ready"
        :loading="begin.busy.value"
        >Start</v-btn
      >
    </div>
    <p v-if="detail" class="muted mt-3">
      Revision {{ detail.revision }} for {{ detail.for
      }}<template v-if="detail.duration">, takes about {{ seconds(detail.duration) }} of bench time</template>.
    </p>
    <ProblemNote v-if="!findings" class="mt-3" :error="error" />
    <FindingsList v-if="findings" class="mt-3" :findings="findings" />
    <v-checkbox
      v-for="f in asked"
      :key="f.check"
      v-model="vouched"
      :value="f.check"
      hide-details
      :data-test="`vouch-${f.check}`"
      :label="`I have looked at the unit and vouch for it: ${f.check}`"
    />
    <v-dialog v-model="asking" max-width="440">
      <v-card class="pa-5">
        <p class="question">Start {{ chosen }} on {{ serial }}?</p>
        <p class="muted mt-2">
          The outputs of this bay go on. Check that the unit is clipped in and nobody touches it.
        </p>
        <div class="d-flex ga-3 mt-5 justify-end">
          <v-btn @click="asking = false">Not yet</v-btn>
          <v-btn v-focus variant="flat" color="primary" data-test="confirm" :loading="begin.busy.value" @click="start"
            >Start</v-btn
          >
        </div>
      </v-card>
    </v-dialog>
  </form>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: minmax(200px, 2fr) minmax(120px, 1fr) minmax(100px, 1fr);
  gap: 12px;
  align-items: center;
}
.fields .v-btn {
  grid-column: -2 / -1;
}
.fields .v-btn.check {
  grid-column: -3 / -2;
}
.question {
  font-size: 16px;
  font-weight: 620;
}
@media (max-width: 700px) {
  .fields {
    grid-template-columns: 1fr;
  }
  .fields .v-btn,
  .fields .v-btn.check {
    grid-column: auto;
  }
}
</style>
