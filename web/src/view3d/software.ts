/** Whether the processor works out the pictures: every sample of a pixel then costs time one waits for. */

/** What graphics drivers that have no graphics processor call themselves. */
export const isSoftware = (renderer: string) =>
  /swiftshader|llvmpipe|softpipe|software|basic render/i.test(renderer)

let found: boolean | null = null

export function drawnInSoftware(): boolean {
  if (found !== null) return found
  const gl = document.createElement('canvas').getContext('webgl2')
  const named = gl?.getExtension('WEBGL_debug_renderer_info')
  found = !!gl && isSoftware(String(gl.getParameter(named ? named.UNMASKED_RENDERER_WEBGL : gl.RENDERER)))
  gl?.getExtension('WEBGL_lose_context')?.loseContext()
  return found
}
