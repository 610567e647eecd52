<script setup lang="ts">
import AlertPanel from '../components/AlertPanel.vue'
</script>

<template>
  <h1 class="mb-3">Alerts</h1>
  <AlertPanel say-if-none />
</template>
