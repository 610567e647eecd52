<script setup lang="ts">
import { computed, ref } from 'vue'
import DiscoveryPanel from '../components/DiscoveryPanel.vue'
import EnrolmentSection from '../components/EnrolmentSection.vue'
import RosterSection from '../components/RosterSection.vue'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
// What a roster made is shown by the list of codes.
const broughtIn = ref(0)
</script>

<template>
  <h1 class="mb-1">Machines</h1>
  <p class="jf-quiet">A code turns one machine into a workstation. It works once and carries the fingerprint of this service’s identity.</p>
  <RosterSection v-if="mayChange" @changed="broughtIn += 1" />
  <EnrolmentSection :key="broughtIn" :may-change="mayChange" />
  <DiscoveryPanel :may-change="mayChange" />
</template>
