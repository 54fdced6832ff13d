<template>
  <div class="page">
    <header><h1>There is nothing here</h1></header>
    <p class="muted">
      The address may be mistyped, or from another version. <router-link to="/">Go to the floor</router-link>
    </p>
  </div>
</template>
