/** Which columns of a list somebody wants to see, remembered for the account in this browser. */
import { computed, ref } from 'vue'
import { useSession } from './useSession'

export function useColumns<Key extends string>(list: string, all: readonly Key[], usual: readonly Key[]) {
  const place = `jetfrost-columns-${list}-${useSession().account.value?.id ?? ''}`
  const kept = localStorage.getItem(place)?.split(' ') ?? usual
  const chosen = ref(all.filter((key) => kept.includes(key))) as { value: Key[] }
  return {
    shown: computed(() => all.filter((key) => chosen.value.includes(key))),
    toggle(key: Key) {
      chosen.value = chosen.value.includes(key) ? chosen.value.filter((other) => other !== key) : [...chosen.value, key]
      localStorage.setItem(place, chosen.value.join(' '))
    },
  }
}
