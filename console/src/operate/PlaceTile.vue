<script setup lang="ts">
import { computed } from 'vue'

import { api, type Bay, type Place } from '../api'
import CoverNote from '../parts/CoverNote.vue'
import { capital, shapeOf, type Shown } from './shown'

// One of several places: its verdict as word, shape and colour, and whether what is scanned goes there.
const props = defineProps<{ place: Place; bay?: Bay; shown: Shown; next: boolean; fresh: boolean }>()
const share = computed(() => (props.bay?.progress?.share ?? 0) * 100)
async function goOn() {
  const h = props.bay?.held
  if (h?.house) await api.goOn(h.at)
  else if (h) await api.goOnBay(props.place.bay, h.at)
}
</script>

<template>
  <section class="tile" :class="[shown.kind, { next }]" :data-test="`tile-${place.bay}`" :data-kind="shown.kind">
    <h2>
      <router-link :to="{ name: 'place', params: { bay: place.bay } }">{{ place.title }}</router-link>
      <span v-if="next" class="here">▸ scan</span>
    </h2>
    <p class="word" data-test="verdict">
      <span v-if="shapeOf(shown.kind)" aria-hidden="true">{{ shapeOf(shown.kind) }}</span> {{ capital(shown.word) }}
    </p>
    <p class="serial" data-test="serial">{{ shown.serial }}</p>
    <img
      v-if="bay?.prompt?.picture && bay.run"
      class="picture"
      :src="api.pictureURL(bay.run.id, bay.prompt.picture)"
      :alt="`Picture: ${bay.prompt.picture}`"
    />
    <CoverNote v-if="bay?.cover" :cover="bay.cover" :fresh="fresh" />
    <p v-for="(line, i) in shown.lines" :key="i" class="line">{{ line }}</p>
    <div v-if="shown.kind === 'tests'" class="bar" role="progressbar" :aria-valuenow="share">
      <div :style="{ width: `${share}%` }" />
    </div>
    <v-btn v-if="place.held" class="mt-4" size="large" @click.stop="goOn">Go on</v-btn>
  </section>
</template>

<style scoped src="./verdicts.css"></style>
<style scoped>
.tile {
  background: var(--ground, var(--raised));
  color: var(--on, var(--ink));
  border-radius: 14px;
  border: 3px solid transparent;
  padding: 14px 18px;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  text-align: center;
  min-height: 200px;
  min-width: 0;
}
.tile.next {
  border-color: var(--live-fill);
}
h2 {
  align-self: stretch;
  display: flex;
  justify-content: space-between;
  font-size: 18px;
  color: inherit;
  margin: 0 0 auto;
}
h2 a {
  color: inherit;
  text-decoration: none;
}
.word {
  font-size: clamp(30px, 4.4vw, 72px);
  font-weight: 750;
  line-height: 1.05;
  margin: 0;
  overflow-wrap: anywhere;
}
.waits .word {
  font-size: clamp(24px, 2.6vw, 40px);
}
.serial {
  font-size: clamp(20px, 2vw, 32px);
  font-weight: 600;
  margin: 6px 0 8px;
  font-variant-numeric: tabular-nums;
}
.line {
  font-size: 16px;
  margin: 1px 0;
  overflow-wrap: anywhere;
}
.picture {
  max-width: 100%;
  max-height: 26vh;
  border-radius: 10px;
}
.bar {
  width: 80%;
  height: 8px;
  border-radius: 4px;
  margin: 14px 0 auto;
  background: rgb(255 255 255 / 18%);
  overflow: hidden;
}
.bar div {
  height: 100%;
  background: var(--live-fill);
}
.tile > :last-child {
  margin-bottom: auto;
}
</style>
