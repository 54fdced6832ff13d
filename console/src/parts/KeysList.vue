<script setup lang="ts">
import { vFocus } from './focus'
import { shortcuts } from './keys'

// The list of what the keyboard does.
const open = defineModel<boolean>({ required: true })
</script>

<template>
  <v-dialog v-model="open" max-width="560" aria-label="Keys">
    <div class="panel keys" data-test="keys" @keydown.esc="open = false">
      <h2>Keys</h2>
      <template v-for="group in shortcuts" :key="group.about">
        <h3>{{ group.about }}</h3>
        <dl>
          <template v-for="s in group.all" :key="s.does">
            <dt>
              <kbd v-for="k in s.keys" :key="k">{{ k }}</kbd>
            </dt>
            <dd>{{ s.does }}</dd>
          </template>
        </dl>
      </template>
      <v-btn v-focus variant="flat" color="primary" @click="open = false">Close</v-btn>
    </div>
  </v-dialog>
</template>

<style scoped>
.keys {
  max-height: 85vh;
  overflow: auto;
}
h3 {
  font-size: 13px;
  margin: 12px 0 6px;
  color: var(--muted);
}
dl {
  display: grid;
  grid-template-columns: 130px minmax(0, 1fr);
  gap: 6px 12px;
  margin: 0 0 14px;
}
dt {
  display: flex;
  align-items: flex-start;
  gap: 4px;
}
dd {
  margin: 0;
}
kbd {
  border: 1px solid var(--line);
  border-radius: 5px;
  padding: 0 7px;
  font: inherit;
  font-size: 12px;
}
</style>
