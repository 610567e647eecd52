<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import { useColours } from '../composables/useColours'
import { useSession } from '../composables/useSession'
import { words } from '../logic/format'

const { account, signOut } = useSession()
const { dark, change } = useColours()
/** In the order of the work. */
const PAGES = [
  { name: 'storage', text: 'Storage' },
  { name: 'people', text: 'People' },
  { name: 'access', text: 'Access' },
  { name: 'machines', text: 'Machines' },
  { name: 'activity', text: 'Activity' },
]
const seesOffice = computed(() => account.value?.role !== 'member')
</script>

<template>
  <header class="jf-bar">
    <nav class="container-fluid jf-page d-flex align-items-center gap-4 px-4 py-2" aria-label="Main">
      <RouterLink class="jf-brand fs-5" :to="{ name: 'overview' }">Jetfrost</RouterLink>
      <RouterLink class="py-1" :to="{ name: 'overview' }">Overview</RouterLink>
      <template v-if="seesOffice">
        <RouterLink v-for="page in PAGES" :key="page.name" class="py-1" :to="{ name: page.name }">{{ page.text }}</RouterLink>
      </template>
      <RouterLink class="ms-auto py-1" :to="{ name: 'me' }">{{ account?.display_name }} · {{ words(account?.role ?? '') }}</RouterLink>
      <BButton variant="link" size="sm" @click="change">{{ dark ? 'Light colours' : 'Dark colours' }}</BButton>
      <BButton variant="link" size="sm" @click="signOut">Sign out</BButton>
    </nav>
  </header>
</template>
