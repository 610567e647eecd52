<script setup lang="ts">
import AuditSection from '../components/AuditSection.vue'
</script>

<template>
  <h1 class="mb-3">Reports</h1>
  <AuditSection />
</template>
