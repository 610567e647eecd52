<script setup lang="ts">
import { computed } from 'vue'
import EnrolmentSection from '../components/EnrolmentSection.vue'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
</script>

<template>
  <h1 class="mb-1">Machines</h1>
  <p class="jf-quiet">A code turns one machine into a workstation. It works once, carries the fingerprint of this service’s certificate, and opens nothing afterwards.</p>
  <EnrolmentSection :may-change="mayChange" />
</template>
