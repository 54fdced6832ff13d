<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, type Bay } from '../api'
import { useRequest } from '../parts/request'
import { vFocus } from '../parts/focus'
import AttachForm from '../parts/AttachForm.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import TakePanel from './TakePanel.vue'

// What the run asks the operator. It stays until it is answered or given up.
const props = defineProps<{ bay: Bay; disabled: boolean }>()
const answer = ref('')
const prompt = computed(() => props.bay.prompt)
const { busy, error, run: reply } = useRequest((text: string) => api.intervene(props.bay.name, { do: 'answer', text }))
watch(
  () => prompt.value?.t,
  () => {
    answer.value = ''
    error.value = null
  },
)

const bounds = computed(() => {
  const p = prompt.value
  if (!p || (p.min === undefined && p.max === undefined)) return ''
  return `${p.min ?? '…'} to ${p.max ?? '…'} ${p.unit ?? ''}`
})
</script>

<template>
  <form
    v-if="prompt"
    class="panel prompt"
    role="alertdialog"
    :aria-label="prompt.prompt"
    data-test="prompt"
    @submit.prevent="reply(answer)"
  >
    <p class="question">{{ prompt.prompt }}</p>
    <img
      v-if="prompt.picture && bay.run"
      class="picture"
      :src="api.pictureURL(bay.run.id, prompt.picture)"
      :alt="`Picture: ${prompt.picture}`"
      data-test="picture"
    />
    <div class="row">
      <template v-if="prompt.form === 'confirm'">
        <v-btn
          variant="flat"
          color="primary"
          size="large"
          data-test="yes"
          :disabled="disabled"
          :loading="busy"
          @click="reply('yes')"
          >Yes</v-btn
        >
        <v-btn size="large" :disabled="disabled" @click="reply('no')">No</v-btn>
      </template>
      <template v-else-if="prompt.form === 'choice'">
        <v-btn
          v-for="c in prompt.choice ?? []"
          :key="c"
          size="large"
          :disabled="disabled"
          :loading="busy"
          @click="reply(c)"
          >{{ c }}</v-btn
        >
      </template>
      <TakePanel
        v-else-if="prompt.form === 'take' && prompt.take"
        :bay="bay"
        :prompt="prompt"
        :disabled="disabled"
        :busy="busy"
        @say="reply"
      />
      <AttachForm
        v-else-if="prompt.form === 'picture' && bay.run"
        :run="bay.run.id"
        :asked="prompt.prompt"
        :disabled="disabled"
        @joined="(all) => reply(String(all.at(-1)?.number))"
      />
      <template v-else>
        <v-text-field
          v-model="answer"
          v-focus
          :label="
            prompt.form === 'serial'
              ? 'Serial number'
              : prompt.form === 'number'
                ? `Number in ${prompt.unit || '1'}`
                : 'Answer'
          "
          :hint="bounds"
          :persistent-hint="bounds !== ''"
          name="answer"
          :disabled="disabled"
        />
        <v-btn
          type="submit"
          variant="flat"
          color="primary"
          size="large"
          data-test="answer"
          :disabled="disabled || !answer.trim()"
          :loading="busy"
          >Answer</v-btn
        >
      </template>
    </div>
    <ProblemNote :error="error" />
  </form>
</template>

<style scoped>
.prompt {
  border: 2px solid var(--live-fill);
}
.question {
  font-size: 18px;
  font-weight: 620;
  margin: 0 0 12px;
}
.row {
  display: flex;
  gap: 12px;
  align-items: flex-start;
  flex-wrap: wrap;
}
.picture {
  display: block;
  max-width: 100%;
  max-height: 340px;
  margin-bottom: 12px;
  border-radius: 8px;
}
.row .v-text-field {
  max-width: 320px;
}
</style>
