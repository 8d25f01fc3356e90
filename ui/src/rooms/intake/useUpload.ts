import { ref, shallowRef } from 'vue'
import { client, ProblemError, unwrap, type Shapes } from '../../api/client'
import { useProject } from '../../state/project'

export type Role = NonNullable<Shapes['Reading']['roles']>[string]

/** An upload from first byte to dataset: progress, preview under chosen roles, making the dataset. */
export function useUpload() {
  const store = useProject()
  const upload = shallowRef<Shapes['Uploaded'] | null>(null)
  const preview = shallowRef<Shapes['Preview'] | null>(null)
  const progress = ref<number | null>(null)
  const failure = ref('')
  const busy = ref(false)
  const reading = ref({ roles: {} as Record<string, Role>, step: '', zone: 'UTC', unit: '' })
  const name = ref('')

  function send(content: Blob, called: string): Promise<Shapes['Uploaded']> {
    return new Promise((resolve, reject) => {
      const request = new XMLHttpRequest()
      request.open('POST', `/api/v1/uploads?name=${encodeURIComponent(called)}`)
      request.upload.onprogress = (event) =>
        (progress.value = event.lengthComputable ? event.loaded / event.total : 0)
      request.onerror = () => reject(new ProblemError('The file could not be sent; nothing was stored.', 0))
      request.onload = () => {
        const body = JSON.parse(request.responseText || '{}') as Shapes['Uploaded'] & { detail?: string }
        if (request.status < 300) resolve(body)
        else reject(new ProblemError(body.detail ?? `The server answered ${request.status}.`, request.status))
      }
      request.send(content)
    })
  }

  async function guarded(work: () => Promise<void>, blocking = true) {
    failure.value = ''
    busy.value = blocking
    try {
      await work()
    } catch (error) {
      failure.value = error instanceof Error ? error.message : String(error)
    }
    busy.value = false
    progress.value = null
  }

  const bring = (content: Blob, called: string) =>
    guarded(async () => {
      preview.value = null
      upload.value = await send(content, called)
      name.value = called.replace(/\.[^.]+$/, '') || 'data'
      reading.value.roles = {}
      await look()
    })

  async function look() {
    if (!upload.value) return
    const { roles, step, zone, unit } = reading.value
    const body = { roles: Object.keys(roles).length ? roles : null, step: step || null, zone, unit }
    const params = { path: { upload_id: upload.value.upload_id } }
    preview.value = await unwrap(client.POST('/api/v1/uploads/{upload_id}/preview', { params, body }))
  }

  /** Look again under changed roles; buttons stay live, so that a click that ends an edit is not lost. */
  const refresh = () => guarded(look, false)

  const make = () =>
    guarded(async () => {
      if (!upload.value || !store.project) return
      const { roles, step, zone, unit } = reading.value
      const body = {
        roles,
        step: step || null,
        zone,
        unit,
        project_id: store.project.id,
        name: name.value || 'data',
      }
      const params = { path: { upload_id: upload.value.upload_id } }
      await unwrap(client.POST('/api/v1/uploads/{upload_id}/dataset', { params, body }))
      await store.reload()
      upload.value = preview.value = null
    })

  function forget() {
    upload.value = preview.value = null
    failure.value = ''
  }

  return { upload, preview, progress, failure, busy, reading, name, bring, refresh, make, forget }
}
