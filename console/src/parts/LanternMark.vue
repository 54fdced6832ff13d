<template>
  <svg width="26" height="26" viewBox="0 0 26 26" aria-hidden="true">
    <path d="M13 2 18 8v12H8V8z" fill="none" stroke="currentColor" stroke-width="2" stroke-linejoin="round" />
    <circle cx="13" cy="13" r="3.4" fill="var(--live-fill)" />
    <path d="M5 24h16" stroke="currentColor" stroke-width="2" stroke-linecap="round" />
  </svg>
</template>
