<script setup lang="ts">
import { RouterLink, useRoute, useRouter, type RouteLocationRaw } from 'vue-router'

/** The parts of a page, each with an address of its own. */
defineProps<{ label: string; tabs: readonly { text: string; to: RouteLocationRaw }[] }>()
const route = useRoute()
const router = useRouter()
const isHere = (to: RouteLocationRaw) => router.resolve(to).path === route.path
</script>

<template>
  <nav class="jf-tabs mb-3" :aria-label="label">
    <RouterLink v-for="tab in tabs" :key="tab.text" :to="tab.to" :class="{ 'is-here': isHere(tab.to) }" :aria-current="isHere(tab.to) ? 'page' : undefined">{{ tab.text }}</RouterLink>
  </nav>
</template>
