<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import type { RestoreOrder } from '../api/types'
import { useForm } from '../composables/useForm'
import { useOrders } from '../composables/useOrders'
import { age } from '../logic/format'
import { isBad, isOpen, orderWords } from '../logic/orders'
import ProblemAlert from './ProblemAlert.vue'

/** Restores that were ordered to a workstation, the latest first. Nothing is shown while there are none. */
const props = defineProps<{ workstation: string; name: string; now: Date }>()
const { orders, hasMore, problem, reload, withdraw } = useOrders(props.workstation)

const chosen = ref<RestoreOrder>()
const withdrawing = useForm(async () => {
  if (chosen.value) await withdraw(chosen.value)
  await reload()
})
function take(order: RestoreOrder) {
  chosen.value = order
  void withdrawing.submit()
}
</script>

<template>
  <section v-if="orders.length || problem" class="jf-panel mb-3" aria-labelledby="orders">
    <h2 id="orders">Ordered to {{ name }}</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <ProblemAlert :problem="withdrawing.problem.value" />
    <ul class="list-unstyled mb-0" aria-live="polite">
      <li v-for="order in orders" :key="order.id" class="d-flex flex-wrap align-items-baseline gap-2 py-1">
        <span class="me-auto">
          What {{ order.by }} ordered {{ age(order.created, now) }} <span :class="{ 'jf-bad': isBad(order) }">{{ orderWords(order) }}.</span> {{ order.reason }}
        </span>
        <BButton v-if="isOpen(order)" size="sm" variant="outline-secondary" :aria-label="`Withdraw what ${order.by} ordered ${age(order.created, now)}`" @click="take(order)">Withdraw</BButton>
      </li>
    </ul>
    <p v-if="hasMore" class="jf-quiet mb-0">Older ones are not shown; their restores are in the history.</p>
  </section>
</template>
