<script setup lang="ts">
import { computed, ref } from 'vue'
import EnrolmentSection from '../components/EnrolmentSection.vue'
import PeopleTabs from '../components/PeopleTabs.vue'
import RosterSection from '../components/RosterSection.vue'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
// What a roster made is shown by the list of codes.
const broughtIn = ref(0)
</script>

<template>
  <PeopleTabs />
  <h1 class="mb-1">Enrolment codes</h1>
  <p class="jf-quiet">A code turns one machine into a workstation. It works once and carries the fingerprint of this service’s identity.</p>
  <RosterSection v-if="mayChange" @changed="broughtIn += 1" />
  <EnrolmentSection :key="broughtIn" :may-change="mayChange" />
</template>
