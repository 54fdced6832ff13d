<script setup lang="ts">
// A place where nothing is yet: what it is for, and how to begin.
defineProps<{ title: string; about: string }>()
</script>

<template>
  <section class="panel place" data-test="empty">
    <h2>{{ title }}</h2>
    <p>{{ about }}</p>
    <p class="muted"><slot /></p>
  </section>
</template>

<style scoped>
.place {
  display: grid;
  gap: 8px;
  max-width: 62ch;
  padding: 22px 24px;
}
.place p {
  margin: 0;
}
.place h2 {
  margin: 0;
  color: var(--ink);
  font-size: 17px;
}
</style>
