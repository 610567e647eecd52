<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { useSession } from '../composables/useSession'
import { isAt, placesOf } from '../logic/places'

/** The way to each task. */
const emit = defineEmits<{ gone: [] }>()
const { account } = useSession()
const route = useRoute()
const places = computed(() => placesOf(account.value?.role))
</script>

<template>
  <ul class="jf-places">
    <li v-for="place in places" :key="place.name">
      <RouterLink :to="{ name: place.name }" :class="{ 'is-here': isAt(place, route.name) }" :aria-current="isAt(place, route.name) ? 'page' : undefined" @click="emit('gone')">{{ place.text }}</RouterLink>
    </li>
  </ul>
</template>
