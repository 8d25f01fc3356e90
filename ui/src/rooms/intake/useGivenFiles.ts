import { useEventListener } from '@vueuse/core'
import { ref, type Ref } from 'vue'
import type { useIntake } from './useIntake'

/** Files picked, dropped or pasted, and accounts to be replayed on the next ones. */
export function useGivenFiles(intake: ReturnType<typeof useIntake>, bringing: Ref<boolean>) {
  const { account, failure } = intake
  const picker = ref<HTMLInputElement>()
  const accountPicker = ref<HTMLInputElement>()
  const over = ref(false)
  function take(files: FileList | null | undefined) {
    const all = [...(files ?? [])]
    if (all.length) void intake.bring(all.map((file) => ({ content: file, name: file.name })))
  }
  async function takeAccount(files: FileList | null) {
    const text = await files?.[0]?.text()
    if (text === undefined) return
    try {
      account.value = JSON.parse(text) as Record<string, unknown>
      bringing.value = true
      picker.value?.click()
    } catch {
      failure.value = 'This is not an account: it is not JSON.'
    }
  }
  function drop(event: DragEvent) {
    over.value = false
    take(event.dataTransfer?.files)
  }
  useEventListener('paste', (event: ClipboardEvent) => {
    if (['INPUT', 'TEXTAREA'].includes((event.target as HTMLElement).tagName)) return
    const text = event.clipboardData?.getData('text') ?? ''
    if (event.clipboardData?.files.length) take(event.clipboardData.files)
    else if (text.trim()) void intake.bring([{ content: new Blob([text]), name: 'pasted.csv' }])
  })
  return { picker, accountPicker, over, take, takeAccount, drop }
}
