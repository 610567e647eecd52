<script setup lang="ts">
import { RouterLink } from 'vue-router'
</script>

<template>
  <h1>There is no such page</h1>
  <p>Go to the <RouterLink :to="{ name: 'office' }">office</RouterLink>.</p>
</template>
