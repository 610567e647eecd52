<script setup lang="ts">
import PageTabs from './PageTabs.vue'

/** What there is to people: accounts and groups, what they have access to, and the codes that make machines theirs. */
const PAGES = [
  { text: 'People', to: { name: 'people' } },
  { text: 'Access', to: { name: 'access' } },
  { text: 'Enrolment codes', to: { name: 'codes' } },
]
</script>

<template>
  <PageTabs label="People and access" :tabs="PAGES" />
</template>
