/** Work that was asked for and is followed: how far it is, what went wrong, and stopping it. */
import { ref } from 'vue'
import { study } from '../api/client'
import { useJob } from './job'

/** A study of one kind: a new one takes the place of the one under way. */
export function useStudy<T>(path: string) {
  const j = useJob()
  const running = ref<{ progress: number; message: string } | null>(null)
  const error = ref('')
  let asked: AbortController | null = null

  /** The result; null where it was stopped, overtaken or failed. */
  async function run(body: unknown): Promise<T | null> {
    asked?.abort()
    const mine = (asked = new AbortController())
    running.value = { progress: 0, message: 'Starting' }
    error.value = ''
    try {
      const told = (progress: number, message: string) => {
        if (mine === asked) running.value = { progress, message }
      }
      const got = await study<T>(j.job!.id, path, body, told, mine.signal)
      return mine === asked ? got : null
    } catch (e) {
      if ((e as Error).name !== 'AbortError') error.value = (e as Error).message
      return null
    } finally {
      if (mine === asked) running.value = null
    }
  }
  function stop() {
    asked?.abort()
    running.value = null
  }
  return { running, error, run, stop }
}
