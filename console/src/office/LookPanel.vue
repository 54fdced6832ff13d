<script setup lang="ts">
import { ref } from 'vue'

import { api, type Office } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { useRequest } from '../parts/request'

// How reports look, where they go, and what operators may run.
defineProps<{ disabled: boolean }>()
const office = ref<Office>({ look: {} })
const signatures = ref('')
const kept = ref(false)
const { error: failed, run: load } = useRequest(async () => {
  office.value = await api.office()
  signatures.value = (office.value.look.signatures ?? []).join(', ')
})
void load()
const {
  busy,
  error,
  run: keep,
} = useRequest(async () => {
  const look = {
    ...office.value.look,
    signatures: signatures.value
      .split(',')
      .map((s) => s.trim())
      .filter(Boolean),
  }
  office.value = await api.setOffice({ ...office.value, look })
  kept.value = true
})
const languages = [
  { title: 'English', value: 'en' },
  { title: 'Deutsch', value: 'de' },
  { title: 'Français', value: 'fr' },
]
const papers = [
  { title: 'A4', value: 'a4' },
  { title: 'Letter', value: 'letter' },
]
function readLogo(files: File | File[] | null) {
  const file = Array.isArray(files) ? files[0] : files
  if (!file) return
  const reader = new FileReader()
  reader.onload = () => {
    const [, data] = String(reader.result).split(',')
    office.value.look.logo = data
  }
  reader.readAsDataURL(file)
}
</script>

<template>
  <form class="panel rows" data-test="look" @submit.prevent="keep()">
    <h2>Reports</h2>
    <ProblemNote :error="failed ?? error" />
    <v-text-field
      v-model="office.look.company"
      label="Company"
      name="company"
      hide-details
      density="compact"
      :disabled="disabled"
    />
    <div class="row">
      <v-select
        v-model="office.look.language"
        :items="languages"
        label="Language"
        hide-details
        density="compact"
        :disabled="disabled"
      />
      <v-select
        v-model="office.look.paper"
        :items="papers"
        label="Paper"
        hide-details
        density="compact"
        :disabled="disabled"
      />
    </div>
    <v-file-input
      label="Logo: PNG or JPEG"
      accept="image/png,image/jpeg"
      density="compact"
      hide-details
      variant="outlined"
      :disabled="disabled"
      @update:model-value="readLogo"
    />
    <p v-if="office.look.logo" class="muted">
      A logo is set.
      <v-btn variant="text" size="small" :disabled="disabled" @click="office.look.logo = undefined">Take it out</v-btn>
    </p>
    <v-text-field
      v-model="office.look.document"
      label="Document number, such as SLW-{procedure}-{serial}"
      hide-details
      density="compact"
      :disabled="disabled"
    />
    <v-text-field
      v-model="signatures"
      label="Who signs, with commas between"
      hide-details
      density="compact"
      :disabled="disabled"
    />
    <div class="row">
      <v-text-field
        v-model="office.reports"
        label="Write each run’s report into the folder"
        hide-details
        density="compact"
        :disabled="disabled"
      />
      <v-text-field
        v-model="office.file"
        label="named, such as {lot}/{serial}_{outcome}"
        hide-details
        density="compact"
        :disabled="disabled"
      />
    </div>
    <v-checkbox
      v-model="office.onlyReleased"
      label="Operators run released procedures only"
      hide-details
      density="compact"
      :disabled="disabled"
    />
    <div class="row">
      <v-btn type="submit" variant="flat" color="primary" :disabled="disabled" :loading="busy" data-test="keep-look"
        >Keep</v-btn
      >
      <span v-if="kept && !busy && !error" class="muted" role="status">Kept.</span>
      <span v-if="disabled" class="muted">An admin changes this.</span>
    </div>
  </form>
</template>
