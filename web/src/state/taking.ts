/** Files taken from the server: each is asked for until it is written, then handed to the browser. */
import { ref } from 'vue'
import { save } from '../api/client'

export function useTaking() {
  /** The address of what is being written; empty where nothing is. */
  const taking = ref('')
  const failed = ref('')
  async function take(url: string, name: string) {
    if (taking.value) return
    taking.value = url
    failed.value = ''
    try {
      await save(url, name)
    } catch (e) {
      failed.value = (e as Error).message
    } finally {
      taking.value = ''
    }
  }
  return { taking, failed, take }
}
