import { Option } from 'commander'
import { PLACEHOLDER_STYLES } from '@ledgerman/contract'

/** Of commands that show statements: how placeholders are written, so that it can be pasted into a program. */
export function styleOption(): Option {
  return new Option('--style <style>', 'how placeholders are written, with the values in their order').choices([
    ...PLACEHOLDER_STYLES,
  ])
}
