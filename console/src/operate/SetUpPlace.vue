<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { api, type Nameplate, type Place, type PlaceSetup, type Procedure } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import { useRequest } from '../parts/request'

// What every unit that is scanned at a place is tested by; several places are set up alike.
const props = defineProps<{ bays: string[]; before?: PlaceSetup | null }>()
const emit = defineEmits<{ done: [places: Place[]] }>()
const live = useLive()

const procedures = ref<Procedure[]>([])
const plates = ref<Nameplate[]>([])
const loadError = ref<unknown>(null)
const before = props.before
const chosen = ref<string[]>(before?.procedures ?? [])
const card = ref<string | null>(before?.card ?? null)
const lot = ref(before?.lot ?? '')
const begins = ref<'scan' | 'key' | 'contact'>(before?.begins ?? 'scan')
const when = ref(before?.when ?? '')
const make = ref(before?.make ?? false)
const goOn = ref(before?.goOn ?? false)

const ways = [
  { title: 'at once when a unit is scanned', value: 'scan' },
  { title: 'when Enter is pressed after the scan', value: 'key' },
  { title: 'by contact: when a condition comes true', value: 'contact' },
]
const fits = (p: Procedure, bay: string) =>
  p.seats.every((seat) => live.bays.get(bay)?.seats.some((s) => s.name === seat))
const fitting = computed(() =>
  procedures.value
    .filter((p) => props.bays.every((bay) => fits(p, bay)))
    .map((p) => ({ title: `${p.name} · ${p.title}`, value: p.name })),
)
onMounted(async () => {
  try {
    ;[procedures.value, plates.value] = await Promise.all([api.procedures(), api.nameplates()])
  } catch (e) {
    loadError.value = e
  }
})

const { busy, error, run } = useRequest(async () => {
  const setup: PlaceSetup = {
    ...(card.value ? { card: card.value } : { procedures: chosen.value }),
    lot: lot.value.trim(),
    begins: begins.value,
    ...(begins.value === 'contact' ? { when: when.value.trim() } : {}),
    make: make.value,
    goOn: goOn.value,
  }
  emit('done', await Promise.all(props.bays.map((bay) => api.setUpPlace(bay, setup))))
})
</script>

<template>
  <form class="panel set-up" data-test="set-up" @submit.prevent="run()">
    <h2>What is tested here</h2>
    <ProblemNote :error="loadError ?? error" />
    <v-select
      v-model="chosen"
      :items="fitting"
      label="Procedures, one after the other"
      multiple
      hide-details
      :disabled="Boolean(card)"
    />
    <v-select
      v-model="card"
      :items="plates.map((p) => ({ title: p.title ? `${p.name} · ${p.title}` : p.name, value: p.name }))"
      label="or the card of a nameplate: its routine procedures"
      clearable
      hide-details
    />
    <v-text-field v-model="lot" label="Lot to which the units count" name="lot" hide-details />
    <v-select v-model="begins" :items="ways" label="A test begins" hide-details />
    <v-text-field
      v-if="begins === 'contact'"
      v-model="when"
      label="The condition, such as meter.volts > 3 V for 0.5 s"
      hide-details
    />
    <v-checkbox
      v-model="make"
      label="Give units serial numbers where nothing is scanned"
      hide-details
      density="compact"
    />
    <v-checkbox v-model="goOn" label="Run what is left of a unit after a failure" hide-details density="compact" />
    <div class="row">
      <v-btn
        type="submit"
        variant="flat"
        color="primary"
        size="large"
        data-test="set-up-done"
        :loading="busy"
        :disabled="!card && !chosen.length"
        >Set up</v-btn
      >
      <slot />
    </div>
  </form>
</template>

<style scoped>
.set-up {
  display: grid;
  gap: 12px;
  width: min(620px, 100%);
  margin: 0 auto;
}
.row {
  display: flex;
  gap: 12px;
}
</style>
