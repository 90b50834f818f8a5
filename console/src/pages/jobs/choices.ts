export const CHOICES = [
  {
    value: 'replace-changed',
    label: 'Replace what changed here; leave and list what somebody changed there',
  },
  { value: 'keep', label: 'Keep the one there' },
  { value: 'keep-both', label: 'Keep both: the one there gets a dated name' },
  { value: 'replace-all', label: 'Replace it always, even where somebody changed it there' },
  { value: 'refuse', label: 'List it as a problem' },
]

export const COMPARISONS = [
  { value: 'since-last-run', label: 'It is new or changed since the last run' },
  { value: 'size-and-time', label: 'Its size or time differs there' },
  { value: 'checksum', label: 'Its content differs there (contents are read for it)' },
  { value: 'size', label: 'Its size differs there (equal sizes count as equal)' },
  { value: 'always', label: 'Always: everything is sent again' },
]

export const INTENTS = [
  { value: 'top-up', title: 'Add what is missing.', says: 'Nothing that exists there is touched.' },
  { value: 'renew', title: 'Add new, replace changed.', says: 'Nothing is removed.' },
  {
    value: 'mirror',
    title: 'Make an exact copy.',
    says: 'Removes there what is gone here.',
    removes: true,
  },
  {
    value: 'hand-over',
    title: 'Move.',
    says: 'Removes each file here once its copy is proven.',
    removes: true,
  },
]

export const KEEP = [
  { value: 'permissions', label: 'Permissions' },
  { value: 'attributes', label: 'Extended attributes' },
  { value: 'tags', label: 'Tags (between buckets)' },
]

export const ROUTES = [
  { value: 'shortest', label: 'The system copies by itself' },
  { value: 'through-us', label: 'Every byte goes through Pine Cart' },
]

export const FOLDERS = [
  { value: 'with-files', label: 'Made as files need them' },
  { value: 'empty-too', label: 'Empty ones are made as well' },
  { value: 'only', label: 'Folders only, no files' },
]
