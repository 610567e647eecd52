<script setup lang="ts">
import { BProgress } from 'bootstrap-vue-next'
import { computed } from 'vue'
import type { Destination } from '../api/types'
import { many, size } from '../logic/format'
import StateWord from './StateWord.vue'

const props = defineProps<{ destination: Destination }>()
const used = computed(() => props.destination.used ?? 0)
const all = computed(() => used.value + (props.destination.room ?? 0))
</script>

<template>
  <section class="jf-panel h-100" :aria-label="`Destination ${destination.name}`">
    <div class="d-flex justify-content-between align-items-baseline mb-2">
      <h2 class="mb-0">{{ destination.name }}</h2>
      <StateWord :state="destination.state" />
    </div>
    <template v-if="destination.used != null && destination.room != null">
      <BProgress :value="used" :max="Math.max(all, 1)" height="0.6rem" :aria-label="`${destination.name}: used`" />
      <div class="d-flex justify-content-between mt-1">
        <span>{{ size(used) }} used by {{ many(destination.stores, 'image store') }}</span>
        <span>room for {{ size(destination.room) }}</span>
      </div>
    </template>
    <div class="jf-quiet small">
      Capacity {{ destination.capacity == null ? 'no limit' : size(destination.capacity) }} · reserve {{ size(destination.reserve) }} · {{ destination.directory }}
    </div>
    <slot />
  </section>
</template>
