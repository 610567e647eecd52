<script setup lang="ts">
import { RouterLink } from 'vue-router'

/** What to do while there is no workstation. */
defineProps<{ mayChange: boolean }>()
</script>

<template>
  <div class="jf-panel">
    <h2>No workstation yet</h2>
    <p v-if="mayChange" class="mb-0">
      First a place under <RouterLink :to="{ name: 'storage' }">Storage</RouterLink>, then <RouterLink :to="{ name: 'people' }">People</RouterLink>, then
      <RouterLink :to="{ name: 'access' }">Access</RouterLink>, then an <RouterLink :to="{ name: 'codes' }">enrolment code</RouterLink> for the person’s machine.
      <RouterLink :to="{ name: 'setup' }">Setup</RouterLink> says what is left to do.
    </p>
    <p v-else class="mb-0">Ask the administrator for an enrolment code, and enter it on your machine.</p>
  </div>
</template>
