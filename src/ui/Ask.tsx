import { AlertDialog } from 'radix-ui'
import { createContext, type ReactNode, useCallback, useContext, useRef, useState } from 'react'
import { Button } from './Button'

export interface Question {
  title: string
  /** What is touched, and whether it can be undone. */
  text: ReactNode
  /** What the button does: a verb and its object. */
  act: string
}

const AskContext = createContext<(question: Question) => Promise<boolean>>(async () => false)

/** Asks once before something that cannot be undone; false: it is left. */
export const useAsk = () => useContext(AskContext)

/** Where questions are asked: one at a time, over everything else. Escape leaves things as they are. */
export function Asking({ children }: { children: ReactNode }) {
  const [question, setQuestion] = useState<Question | null>(null)
  const answer = useRef<(yes: boolean) => void>(() => undefined)
  const ask = useCallback((next: Question) => {
    answer.current(false)
    setQuestion(next)
    return new Promise<boolean>((done) => {
      answer.current = done
    })
  }, [])
  const say = (yes: boolean) => {
    answer.current(yes)
    answer.current = () => undefined
    setQuestion(null)
  }
  return (
    <AskContext value={ask}>
      {children}
      <AlertDialog.Root open={question !== null} onOpenChange={(open) => !open && say(false)}>
        <AlertDialog.Portal>
          <AlertDialog.Overlay className="fixed inset-0 z-[60] bg-ink/35 dark:bg-black/55" />
          <AlertDialog.Content className="fixed top-[22vh] left-1/2 z-[70] w-[min(440px,calc(100vw-32px))] -translate-x-1/2 rounded-sm border border-line bg-paper shadow-[0_10px_40px_rgb(0_0_0/0.22)]">
            <div className="px-4 py-3">
              <AlertDialog.Title className="text-[15px] font-semibold break-words">{question?.title}</AlertDialog.Title>
              <AlertDialog.Description className="mt-1 break-words">{question?.text}</AlertDialog.Description>
            </div>
            <div className="flex justify-end gap-2 border-t border-line px-4 py-2.5">
              <AlertDialog.Cancel asChild>
                <Button>Leave it as it is</Button>
              </AlertDialog.Cancel>
              <Button kind="danger" onClick={() => say(true)}>
                {question?.act}
              </Button>
            </div>
          </AlertDialog.Content>
        </AlertDialog.Portal>
      </AlertDialog.Root>
    </AskContext>
  )
}
