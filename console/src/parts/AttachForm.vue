<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type Attachment, type ThermalScale } from '../api'
import ProblemNote from './ProblemNote.vue'
import { clock } from './format'
import { useRequest } from './request'

// Joins pictures and files to a run: from the camera of a phone, or from a folder.
const props = defineProps<{
  run: string
  // cursor is an instant of the run that somebody points at.
  cursor?: number | null
  live?: boolean
  disabled?: boolean
  // asked is what is to be seen on the picture that a run asks for: nothing else is then said of it.
  asked?: string
}>()
const emit = defineEmits<{ joined: [all: Attachment[]] }>()
const files = ref<File[]>([])
const note = ref('')
const instant = ref<'now' | 'taken' | 'cursor'>('now')
const coldest = ref('')
const hottest = ref('')
const camera = ref<HTMLInputElement | null>(null)
const folder = ref<HTMLInputElement | null>(null)

const instants = computed(() => [
  { value: 'now', title: props.live ? 'Now' : 'The end of the run' },
  { value: 'taken', title: 'When each file was written' },
  ...(props.cursor === null || props.cursor === undefined
    ? []
    : [{ value: 'cursor', title: `Cursor A, ${clock(props.cursor, 5)}` }]),
])
const pictures = computed(() => files.value.every((f) => f.type.startsWith('image/')))
const number = (text: string) => Number(text.replace(',', '.').replace('−', '-'))
const scale = computed<ThermalScale | undefined>(() =>
  coldest.value.trim() && hottest.value.trim()
    ? { coldest: number(coldest.value), hottest: number(hottest.value) }
    : undefined,
)

function chosen(e: Event) {
  const input = e.target as HTMLInputElement
  const all = [...(input.files ?? [])]
  input.value = '' // the same file may be chosen again
  if (!all.length) return
  files.value = all
  error.value = null
  instant.value = props.cursor === null || props.cursor === undefined ? 'now' : 'cursor'
  if (props.asked) void join()
}

const {
  busy,
  error,
  run: attach,
} = useRequest(async () => {
  const joined: Attachment[] = []
  // One after another; what is joined does not come again when a later one is refused.
  while (files.value.length) {
    const f = files.value[0]!
    joined.push(
      await api.attach(props.run, f, {
        t: instant.value === 'cursor' ? (props.cursor ?? undefined) : undefined,
        taken: instant.value === 'taken' ? new Date(f.lastModified).toISOString() : undefined,
        note: props.asked ?? note.value.trim(),
        scale: pictures.value ? scale.value : undefined,
      }),
    )
    files.value = files.value.slice(1)
  }
  emit('joined', joined)
})
async function join() {
  if (await attach()) note.value = ''
}
</script>

<template>
  <div class="attach" data-test="attach">
    <input
      ref="camera"
      type="file"
      accept="image/jpeg,image/png,image/webp"
      capture="environment"
      hidden
      @change="chosen"
    />
    <input
      ref="folder"
      type="file"
      data-test="attach-file"
      :multiple="!asked"
      :accept="
        asked
          ? 'image/jpeg,image/png,image/webp'
          : 'image/jpeg,image/png,image/webp,application/pdf,text/plain,text/csv,.txt,.csv'
      "
      hidden
      @change="chosen"
    />
    <div class="row">
      <v-btn
        :size="asked ? 'large' : 'small'"
        :variant="asked ? 'flat' : undefined"
        :color="asked ? 'primary' : undefined"
        :disabled="disabled"
        :loading="asked ? busy : false"
        @click="camera?.click()"
        >Take a picture</v-btn
      >
      <v-btn :size="asked ? 'large' : 'small'" :disabled="disabled || busy" @click="folder?.click()"
        >Choose {{ asked ? 'one' : 'files' }}</v-btn
      >
    </div>
    <form v-if="files.length && !asked" class="about" data-test="attach-about" @submit.prevent="join">
      <p class="names">{{ files.map((f) => f.name).join(', ') }}</p>
      <v-text-field v-model="note" label="What is to be seen" maxlength="500" name="attach-note" />
      <v-select v-model="instant" :items="instants" label="Belongs to" />
      <template v-if="pictures">
        <v-text-field v-model="coldest" class="short" label="Coldest colour, °C" inputmode="decimal" />
        <v-text-field v-model="hottest" class="short" label="Hottest colour, °C" inputmode="decimal" />
      </template>
      <v-btn type="submit" variant="flat" color="primary" data-test="join" :loading="busy">Join to the run</v-btn>
      <v-btn :disabled="busy" @click="files = []">Leave it</v-btn>
    </form>
    <ProblemNote :error="error" />
  </div>
</template>

<style scoped>
.row {
  display: flex;
  gap: 8px;
  flex-wrap: wrap;
}
.about {
  display: flex;
  gap: 8px 12px;
  flex-wrap: wrap;
  align-items: center;
  margin-top: 10px;
}
.about .v-input {
  flex: 1 1 200px;
  max-width: 360px;
}
.about .short {
  flex: 0 1 160px;
}
.names {
  flex: 1 0 100%;
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
