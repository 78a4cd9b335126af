import { computed, onMounted, onUnmounted, ref, shallowRef, watch, type Ref } from 'vue'
import { call, sentence } from '@/api/client'

const size = 100 // rows that are shown at first, and how many more each time
const most = 1000 // that the service gives at once
const pause = 150 // milliseconds that somebody who types may stop for

// useWindow is the part of a long list that is shown: the first that have the text in them, and more when they are asked for. It
// is looked for on the service's side; what comes of an earlier question is not taken.
export function useWindow<T>(path: string, failed: (say: string) => void) {
  const items: Ref<T[]> = shallowRef([])
  const total = ref(0)
  const text = ref('')
  const next = ref('')
  const loaded = ref(false)
  let turn = 0
  let timer = 0

  async function ask(limit: number, after: string) {
    const mine = ++turn
    try {
      const page = await call<{ items: T[]; next?: string; total?: number }>('GET', `${path}?${new URLSearchParams({ limit: String(limit), after, text: text.value.trim() })}`)
      if (mine !== turn) return
      items.value = after ? [...items.value, ...page.items] : page.items
      next.value = page.next ?? ''
      total.value = page.total ?? 0
    } catch (error) {
      if (mine === turn) failed(sentence(error))
    }
    loaded.value = true
  }
  // load asks anew for as many as are shown.
  const load = () => ask(Math.min(most, Math.max(size, items.value.length)), '')
  const more = () => ask(size, next.value)

  watch(text, () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(() => void ask(size, ''), pause)
  })
  onMounted(load)
  onUnmounted(() => window.clearTimeout(timer))
  return { items, total, text, next, loaded, load, more }
}

// usePicked is the one thing that is open, which may be none of those that are shown: then it is asked for by itself.
export function usePicked<T>(items: Ref<T[]>, loaded: Ref<boolean>, name: (one: T) => string, wanted: () => string | undefined, fetch: (name: string) => Promise<T | undefined>, failed: (say: string) => void) {
  const elsewhere = shallowRef<T>()
  const here = (asked: string | undefined) => items.value.find((one) => name(one) === asked)
  const picked = computed(() => here(wanted()) ?? (elsewhere.value && name(elsewhere.value) === wanted() ? elsewhere.value : undefined))
  async function find() {
    const asked = wanted()
    if (!asked || here(asked)) return
    try {
      elsewhere.value = await fetch(asked)
    } catch (error) {
      failed(sentence(error))
    }
  }
  watch([wanted, loaded], () => loaded.value && void find())
  return { picked, find }
}
