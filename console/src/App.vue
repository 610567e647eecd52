<script setup lang="ts">
import { watch } from 'vue'
import { RouterView, useRouter } from 'vue-router'
import AppHeader from './components/AppHeader.vue'
import PlaceList from './components/PlaceList.vue'
import ProtectionLine from './components/ProtectionLine.vue'
import { useSession } from './composables/useSession'

const router = useRouter()
const { account } = useSession()

watch(account, (now, before) => {
  if (before && !now) void router.push({ name: 'sign-in', query: { to: router.currentRoute.value.fullPath } })
})
</script>

<template>
  <a class="jf-skip" href="#main">Go to the content</a>
  <AppHeader v-if="account" />
  <div :class="{ 'jf-shell': account }">
    <nav v-if="account" class="jf-rail d-none d-lg-block" aria-label="Main"><PlaceList /></nav>
    <div class="jf-content">
      <main id="main" class="jf-page px-3 px-lg-4 py-4" tabindex="-1">
        <RouterView />
      </main>
      <ProtectionLine v-if="account && account.role !== 'member'" />
    </div>
  </div>
</template>
