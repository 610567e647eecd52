<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { answer, api, at } from '../api/client'
import type { UnlockMethod, Workstation } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { many, moment, words } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** What unlocks an image store. The secrets themselves are nowhere here. */
const props = defineProps<{ workstation: Workstation; mayChange: boolean }>()
const id = computed(() => props.workstation.store.id)
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/stores/{id}/unlock-methods', at({ id: id.value }))))
const asking = ref<string>()
const ownWays = computed(() => data.value?.items.filter((way) => way.kind !== 'office_key').length ?? 0)
const isLast = (way: UnlockMethod) => way.kind !== 'office_key' && ownWays.value < 2

const removing = useForm(async () => {
  if (asking.value) await answer(api.DELETE('/api/v1/stores/{id}/slots/{slot}', at({ id: id.value, slot: asking.value })))
  asking.value = undefined
  await reload()
})
watch(() => props.workstation, reload)
onMounted(reload)
</script>

<template>
  <section class="jf-panel mb-3 table-responsive" aria-labelledby="unlock-methods">
    <h2 id="unlock-methods">Unlock methods</h2>
    <ProblemAlert :problem="problem ?? removing.problem.value" retry @retry="reload" />
    <p v-if="data && !workstation.store.encrypted" class="mb-0">This image store is not encrypted: whoever gets at the disk of {{ workstation.store.destination_name }} can read it, without any secret.</p>
    <p v-else-if="data" class="jf-quiet">
      {{ many(data.items.length, 'secret') }} can unlock this image store. People hold them; only their kinds are listed here.
      {{ data.items.some((way) => way.kind === 'office_key') ? 'The office key is among them: the person agreed to it.' : 'The office holds none of them.' }}
    </p>
    <table v-if="data?.items.length && workstation.store.encrypted" class="table table-sm align-middle mb-0">
      <thead>
        <tr>
          <th scope="col">Kind</th>
          <th scope="col">Label</th>
          <th scope="col">Made</th>
          <th v-if="mayChange" scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="way in data.items" :key="way.id">
          <th scope="row">{{ words(way.kind) }}<span v-if="way.damaged" class="jf-quiet"> (file damaged; the next scrub writes it again)</span></th>
          <td>{{ way.label || '–' }}</td>
          <td>{{ moment(way.made) }}</td>
          <td v-if="mayChange" class="text-end">
            <template v-if="asking === way.id">
              <span class="me-2">It will no longer unlock the store.</span>
              <BButton size="sm" variant="danger" @click="removing.submit">Take away</BButton>
              <BButton size="sm" variant="outline-secondary" class="ms-2" @click="asking = undefined">Cancel</BButton>
            </template>
            <BButton v-else-if="!isLast(way)" size="sm" variant="outline-secondary" :aria-label="`Take away ${words(way.kind)} of ${moment(way.made)}`" @click="asking = way.id">
              Take away
            </BButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
