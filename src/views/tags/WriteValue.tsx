import { useState } from 'react'
import { toast } from 'sonner'
import type { Tag } from '~/contract/tag'
import type { WireScalar } from '~/contract/value'
import { formatValue } from '~/core/value/format'
import { fromWire, toWire } from '~/core/value/wire'
import { typedValue, writeProblem } from '~/core/value/writing'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Heading } from '~/ui/Notes'
import { call } from '../app/api'
import { useMay } from '../app/caller'
import { told } from '../shared/problems'
import { useWork } from '../shared/useWork'

/** Writes a value to the device, and says what was read back. Nothing for a tag that is read-only. */
export function WriteValue({ tag, onWriting }: { tag: Tag; onWriting?: () => void }) {
  const mayWrite = useMay('operator')
  const [text, setText] = useState('')
  const [asked, setAsked] = useState(false)
  const { busy, run } = useWork(told)
  if (tag.access !== 'read-write') return null
  const value = typedValue(text, tag.dataType)
  const problem = text === '' ? null : writeProblem(tag, value)
  const shown = `${formatValue(value, tag)} ${tag.unit}`.trim()
  const write = () =>
    run(async () => {
      onWriting?.()
      const written = await call('writeTag', { params: { id: tag.id }, body: { value: toWire(value) as NonNullable<WireScalar> } })
      const readBack = fromWire(written.readBack)
      const same = readBack === value
      const back = `Read back: ${formatValue(readBack, tag)} ${tag.unit}`
      if (same) toast.success(`${shown} is written`, { description: back })
      else toast.warning(`${shown} was sent, the device keeps another value`, { description: back })
      setText('')
      setAsked(false)
    })
  const send = () => {
    if (text === '' || problem) return
    if (asked) void write()
    else setAsked(true)
  }
  return (
    <>
      <Heading>Write a value</Heading>
      <Form className="[&_.grid]:grid-cols-1" onSubmit={send}>
        <TextField
          label={tag.simulated ? 'On simulation: nothing would reach the device' : 'New value'}
          mono
          unit={tag.unit}
          value={text}
          disabled={!mayWrite || tag.simulated}
          placeholder={tag.range ? `${tag.range.low} to ${tag.range.high}` : tag.dataType}
          onChange={(e) => {
            setText(e.target.value)
            setAsked(false)
          }}
          error={problem ?? undefined}
        />
        {asked ? (
          <div className="flex items-center gap-2 py-1" role="alert">
            <span className="mr-auto">Write {shown} to the device?</span>
            <Button small onClick={() => setAsked(false)}>
              No
            </Button>
            <Button small kind="main" type="submit" busy={busy}>
              Write it
            </Button>
          </div>
        ) : (
          <Button small type="submit" disabled={!mayWrite || text === '' || problem !== null} title={mayWrite ? '' : 'Needs the role operator'}>
            Write
          </Button>
        )}
      </Form>
    </>
  )
}
