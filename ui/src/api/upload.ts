import { ProblemError, type Shapes } from './client'

/** Send a file; `told` hears which share of it is over there. */
export function send(
  content: Blob,
  called: string,
  told: (share: number) => void = () => undefined,
): Promise<Shapes['Uploaded']> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest()
    request.open('POST', `/api/v1/uploads?name=${encodeURIComponent(called)}`)
    request.upload.onprogress = (event) => told(event.lengthComputable ? event.loaded / event.total : 0)
    request.onerror = () => reject(new ProblemError('The file could not be sent; nothing was stored.', 0))
    request.onload = () => {
      const body = JSON.parse(request.responseText || '{}') as Shapes['Uploaded'] & { detail?: string }
      if (request.status < 300) resolve(body)
      else reject(new ProblemError(body.detail ?? `The server answered ${request.status}.`, request.status))
    }
    request.send(content)
  })
}
