import { describe, expect, it } from 'vitest'
import { isSoftware } from '../src/view3d/software'

describe('what draws', () => {
  it('is told from its name', () => {
    for (const name of [
      'ANGLE (Vendor, Vulkan 1.3.0 (SwiftShader Device (Subzero) (0x0000C0DE)), SwiftShader driver)',
      'llvmpipe (LLVM 15.0.6, 256 bits)',
      'ANGLE (Vendor, Basic Render Driver Direct3D11)',
    ])
      expect(isSoftware(name)).toBe(true)
    for (const name of ['ANGLE (Vendor, Vulkan 1.3 (Some Graphics 750))', 'WebKit WebGL', ''])
      expect(isSoftware(name)).toBe(false)
  })
})
