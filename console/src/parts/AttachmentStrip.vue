<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'

import { api, type Attachment } from '../api'
import ProblemNote from './ProblemNote.vue'
import { clock, dateTime } from './format'
import { useRequest } from './request'

// What was joined to a run, as a strip over the same time as the curves above it.
const props = defineProps<{
  run: string
  all: Attachment[]
  from: number
  to: number
  mayDrop?: boolean
  // mayLook says that the curves have a cursor, which can be set where a picture belongs.
  mayLook?: boolean
}>()
const emit = defineEmits<{ look: [t: number]; changed: [] }>()

// The curves leave this much to the left and right of their axes, px.
const left = 62
const right = 26
const widest = 112
const gap = 6
const legs = 26

const box = ref<HTMLElement | null>(null)
const width = ref(900)
const resized = new ResizeObserver(([e]) => (width.value = e?.contentRect.width ?? width.value))
onMounted(() => box.value && resized.observe(box.value))
onUnmounted(() => resized.disconnect())

interface Placed {
  a: Attachment
  at: number // of its instant
  x: number // of its picture
}
const seen = computed(() => props.all.filter((a) => a.t >= props.from && a.t <= props.to))
const each = computed(() => Math.max(Math.min(widest, (width.value + gap) / Math.max(seen.value.length, 1) - gap), 24))
// Each picture stands below its instant, or as near as those beside it let it.
const placed = computed<Placed[]>(() => {
  const w = each.value
  const span = Math.max(props.to - props.from, 1e-9)
  const all = seen.value.map((a) => {
    const at = left + ((a.t - props.from) / span) * Math.max(width.value - left - right, 1)
    return { a, at, x: at - w / 2 }
  })
  let least = 0
  for (const p of all) {
    p.x = Math.max(p.x, least)
    least = p.x + w + gap
  }
  let most = width.value - w
  for (const p of all.toReversed()) {
    p.x = Math.min(p.x, most)
    most = p.x - w - gap
  }
  return all
})
const isPicture = (a: Attachment) => a.type.startsWith('image/')
const scaleOf = (a: Attachment) => (a.scale ? `${a.scale.coldest} to ${a.scale.hottest} °C` : '')
const title = (a: Attachment) => a.note || a.name

const shown = ref<number | null>(null)
const looked = computed(() => props.all.find((a) => a.number === shown.value))
const index = computed(() => props.all.findIndex((a) => a.number === shown.value))
function step(by: number) {
  const next = props.all[index.value + by]
  if (next) shown.value = next.number
}
const why = ref('')
const dropping = ref(false)
const {
  busy,
  error,
  run: drop,
} = useRequest(async (number: number) => {
  await api.dropAttachment(props.run, number, why.value)
  shown.value = null
  dropping.value = false
  why.value = ''
  emit('changed')
})
</script>

<template>
  <div ref="box" class="strip" data-test="strip">
    <svg v-if="placed.length" class="legs" :width="width" :height="legs" aria-hidden="true">
      <path
        v-for="p in placed"
        :key="p.a.number"
        :d="`M${p.at} 0V6L${p.x + each / 2} ${legs - 4}V${legs}`"
        fill="none"
        stroke="var(--muted)"
      />
    </svg>
    <div class="row" :style="{ height: `${each * 0.75 + 36}px` }">
      <button
        v-for="p in placed"
        :key="p.a.number"
        class="one"
        :style="{ left: `${p.x}px`, width: `${each}px` }"
        :title="`${clock(p.a.t, 5)} ${title(p.a)}`"
        data-test="attachment"
        @click="shown = p.a.number"
      >
        <img v-if="isPicture(p.a)" :src="api.attachmentURL(run, p.a.number, true)" :alt="title(p.a)" loading="lazy" />
        <span v-else class="file">{{ p.a.name }}</span>
        <span v-if="each > 60" class="words"
          ><b>{{ clock(p.a.t, 5) }}</b> {{ scaleOf(p.a) || title(p.a) }}</span
        >
      </button>
    </div>
    <v-dialog :model-value="looked !== undefined" max-width="900" @update:model-value="shown = null">
      <v-card v-if="looked" class="pa-5" data-test="attachment-shown">
        <p class="question">{{ title(looked) }}</p>
        <p class="muted">
          {{ clock(looked.t, 5) }} of the run · {{ looked.name }} · {{ looked.by }}, {{ dateTime(looked.at) }}
          <template v-if="looked.scale"> · {{ scaleOf(looked) }}</template>
        </p>
        <img v-if="isPicture(looked)" class="large" :src="api.attachmentURL(run, looked.number)" :alt="title(looked)" />
        <form v-if="dropping" class="acts" @submit.prevent="drop(looked.number)">
          <v-text-field v-model="why" label="Why it is taken away" name="why" />
          <v-btn type="submit" class="danger" :disabled="!why.trim()" :loading="busy">Take away</v-btn>
          <v-btn :disabled="busy" @click="dropping = false">Keep it</v-btn>
        </form>
        <div v-else class="acts">
          <v-btn :disabled="index <= 0" @click="step(-1)">Earlier</v-btn>
          <v-btn :disabled="index >= all.length - 1" @click="step(1)">Later</v-btn>
          <span class="grow" />
          <v-btn v-if="mayDrop" data-test="drop" @click="dropping = true">Take away</v-btn>
          <v-btn :href="api.attachmentURL(run, looked.number)" :download="looked.name">Save</v-btn>
          <v-btn v-if="mayLook" data-test="look" @click="(emit('look', looked.t), (shown = null))">In the curves</v-btn>
          <v-btn variant="flat" color="primary" @click="shown = null">Close</v-btn>
        </div>
        <ProblemNote :error="error" />
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.strip {
  min-width: 0;
}
.legs {
  display: block;
}
.row {
  position: relative;
}
.one {
  position: absolute;
  top: 0;
  display: flex;
  flex-direction: column;
  gap: 2px;
  color: inherit;
  font-size: 12px;
  text-align: center;
  cursor: pointer;
}
.one img,
.one .file {
  width: 100%;
  aspect-ratio: 4 / 3;
  object-fit: cover;
  border-radius: 6px;
  border: 1px solid var(--line);
}
.one .file {
  display: grid;
  place-items: center;
  padding: 4px;
  overflow: hidden;
  overflow-wrap: anywhere;
  background: var(--idle-fill);
}
.words {
  overflow: hidden;
  text-overflow: ellipsis;
  display: -webkit-box;
  -webkit-line-clamp: 2;
  line-clamp: 2;
  -webkit-box-orient: vertical;
}
.question {
  font-size: 16px;
  font-weight: 620;
  margin: 0;
}
.large {
  max-width: 100%;
  max-height: 62vh;
  object-fit: contain;
  margin: 10px 0;
  border-radius: 8px;
}
.acts {
  display: flex;
  gap: 8px 12px;
  flex-wrap: wrap;
  align-items: center;
  margin-top: 8px;
}
</style>
