import { defineStore } from 'pinia'
import { ref } from 'vue'
import { call, Problem, type Schemas } from './api/client'

// Who is signed in to the console.
export const useOperator = defineStore('operator', () => {
  const me = ref<Schemas['Operator'] | null>(null)

  // known asks the service once and remembers the answer.
  async function known(): Promise<boolean> {
    if (me.value) return true
    try {
      me.value = await call('GET', '/me')
    } catch (error) {
      if (!(error instanceof Problem)) throw error
    }
    return me.value !== null
  }

  async function signIn(operator: string, password: string) {
    me.value = await call<Schemas['Operator']>('POST', '/sign-in', { operator, password } satisfies Schemas['SignIn'])
  }

  async function signOut() {
    await call('POST', '/sign-out')
    me.value = null
  }

  // mayChange is false for an auditor, who reads only.
  const mayChange = () => me.value?.role !== 'auditor'

  return { me, known, signIn, signOut, mayChange }
})
