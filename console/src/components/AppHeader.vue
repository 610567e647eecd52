<script setup lang="ts">
import { BButton, BOffcanvas } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'
import { useColours } from '../composables/useColours'
import { useSession } from '../composables/useSession'
import { words } from '../logic/format'
import PlaceList from './PlaceList.vue'
import SearchBox from './SearchBox.vue'

const { account, signOut } = useSession()
const { dark, change } = useColours()
const open = ref(false)
</script>

<template>
  <header class="jf-bar d-flex flex-wrap align-items-center gap-2 gap-lg-4 px-3 px-lg-4 py-2">
    <BButton variant="link" class="d-lg-none px-0" :aria-expanded="open" aria-controls="places" @click="open = true">Menu</BButton>
    <RouterLink class="jf-brand fs-5" :to="{ name: 'office' }">Jetfrost</RouterLink>
    <SearchBox class="flex-grow-1" />
    <RouterLink class="py-1 d-none d-md-inline ms-auto" :to="{ name: 'me' }">{{ account?.display_name }} · {{ words(account?.role ?? '') }}</RouterLink>
    <BButton class="d-none d-md-inline" variant="link" size="sm" @click="change">{{ dark ? 'Light colours' : 'Dark colours' }}</BButton>
    <BButton class="d-none d-md-inline" variant="link" size="sm" @click="signOut">Sign out</BButton>
  </header>
  <BOffcanvas id="places" v-model="open" placement="start" aria-label="Menu" body-class="d-flex flex-column gap-3">
    <template #header>
      <span class="fw-bold">Jetfrost</span>
      <BButton variant="outline-secondary" size="sm" class="ms-auto" @click="open = false">Close</BButton>
    </template>
    <nav aria-label="Main"><PlaceList @gone="open = false" /></nav>
    <div class="d-flex flex-column gap-2 align-items-start">
      <RouterLink :to="{ name: 'me' }" @click="open = false">{{ account?.display_name }} · {{ words(account?.role ?? '') }}</RouterLink>
      <BButton variant="link" size="sm" class="p-0" @click="change">{{ dark ? 'Light colours' : 'Dark colours' }}</BButton>
      <BButton variant="link" size="sm" class="p-0" @click="signOut">Sign out</BButton>
    </div>
  </BOffcanvas>
</template>
