<script setup lang="ts">
import { computed } from 'vue'
import AccountSection from '../components/AccountSection.vue'
import DestinationSection from '../components/DestinationSection.vue'
import EnrolmentSection from '../components/EnrolmentSection.vue'
import JobSection from '../components/JobSection.vue'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
</script>

<template>
  <h1 class="mb-1">Office</h1>
  <p class="jf-quiet">First a place, then people, then a code for each person’s machine.</p>
  <DestinationSection :may-change="mayChange" />
  <AccountSection :may-change="mayChange" />
  <EnrolmentSection :may-change="mayChange" />
  <JobSection :may-change="mayChange" />
</template>
