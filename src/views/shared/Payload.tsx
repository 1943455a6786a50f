import { Pre } from '~/ui/Pre'
/** A JSON payload laid out for reading, as it is on the wire but for the spaces. */
export function Payload({ text }: { text: string }) {
  let laid = text
  try {
    laid = JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    laid = text
  }
  return (
    <Pre label="Payload" className="bg-paper px-2.5 py-2 text-[12px] leading-[18px]" data-payload>
      {laid.split('\n').map((line, i) => {
        const m = /^(\s*)("(?:[^"\\]|\\.)*")(: )(.*)$/.exec(line)
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: lines have no other name
          <div key={i}>
            {m ? (
              <>
                {m[1]}
                <span className="text-muted">{m[2]}</span>
                {m[3]}
                <span className={m[4]!.startsWith('null') ? 'text-bad' : ''}>{m[4]}</span>
              </>
            ) : (
              line
            )}
          </div>
        )
      })}
    </Pre>
  )
}
