import { defineStore } from 'pinia'
import { ref } from 'vue'
import { call, Problem, type Schemas } from './api/client'
import { answerPasskey } from './passkey'

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

  async function signIn(operator: string, password: string, code?: string) {
    me.value = await call<Schemas['Operator']>('POST', '/sign-in', { operator, password, code } satisfies Schemas['SignIn'])
  }

  async function signInByPasskey() {
    me.value = await call<Schemas['Operator']>('POST', '/sign-in/passkey', await answerPasskey())
  }

  // renew asks again, after something about the operator has changed.
  async function renew() {
    me.value = await call('GET', '/me')
  }

  async function signOut() {
    await call('POST', '/sign-out')
    me.value = null
  }

  // mayChange is false for an auditor, who reads only.
  const mayChange = () => me.value?.role !== 'auditor'

  const isOwner = () => me.value?.role === 'owner'

  return { me, known, renew, signIn, signInByPasskey, signOut, mayChange, isOwner }
})
