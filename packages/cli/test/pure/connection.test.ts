import os from 'node:os'
import { jest } from '@jest/globals'
import { connect, loginFile } from '../../src/connection.js'

it('calls with what the environment says, for a user whom the system does not know as well', () => {
  const unknown = jest.spyOn(os, 'homedir').mockImplementation(() => {
    throw new Error('uv_os_homedir returned ENOENT')
  })
  try {
    expect(loginFile({})).toBeUndefined()
    expect(connect({ LEDGERMAN_URL: 'http://127.0.0.1:4680', LEDGERMAN_TOKEN: 'x' })).toBeDefined()
    expect(() => connect({})).toThrow(/Not signed in/)
    expect(unknown).toHaveBeenCalled()
  } finally {
    unknown.mockRestore()
  }
})
