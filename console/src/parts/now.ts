import { onMounted, onUnmounted, ref } from 'vue'

// useNow is the time, each second anew.
export function useNow() {
  const now = ref(Date.now())
  let timer = 0
  onMounted(() => (timer = window.setInterval(() => (now.value = Date.now()), 1000)))
  onUnmounted(() => window.clearInterval(timer))
  return now
}
