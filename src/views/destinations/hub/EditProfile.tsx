import { Download, Upload } from 'lucide-react'
import { useRef, useState } from 'react'
import { type FieldValues, useForm } from 'react-hook-form'
import { HubProfile } from '~/contract/hub-profile'
import { type HubUnit, profileProblems } from '~/core/hub/profile'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { SettingsForm } from '../../shared/SettingsForm'
import { fileNameOf, saveFile } from '../../shared/save-file'
import { RecipeFields } from '../credentials/RecipeFields'
import { freshRecipe, recipeOf, typedOf } from '../credentials/recipe'
import { ProfileView } from './ProfileView'

interface Problem {
  message: string
  hint: string
}

/** Numbers that may be empty. */
const COUNTS = ['payloadOctets', 'perSecond', 'perDay', 'selfEveryS'] as const

/** A profile as it is typed: what cannot be used yet stays in, with what is wrong by field. */
function read(values: object): { profile: HubProfile | null; wrong: Record<string, string> } {
  const given: Record<string, unknown> = { ...values }
  for (const field of COUNTS) given[field] ??= null
  const found = HubProfile.safeParse(given)
  if (!found.success) return { profile: null, wrong: Object.fromEntries(found.error.issues.map((i) => [i.path.join('.'), i.message])) }
  return { profile: found.data, wrong: profileProblems(found.data) }
}

/** How a kind of hub wants to be spoken to: typed from its documents, with what each template gives beside it; from a file, and as one. */
export function EditProfile({
  profile,
  typed,
  onClose,
  onSave,
}: {
  profile: HubProfile
  typed: HubUnit
  onClose(): void
  onSave(p: HubProfile): void
}) {
  const form = useForm<FieldValues>({ defaultValues: { profile } })
  const [recipe, setRecipe] = useState(profile.token ? typedOf(profile.token) : { ...freshRecipe, form: 'hmac' as const })
  const [problem, setProblem] = useState<Problem | null>(null)
  const [tried, setTried] = useState(false)
  const file = useRef<HTMLInputElement>(null)
  const values = form.watch('profile') as HubProfile
  const byToken = values.logInBy === 'token'
  const { profile: now, wrong } = read({ ...values, token: byToken ? recipeOf(recipe) : null })
  const shown = tried ? wrong : Object.fromEntries(Object.entries(wrong).filter(([field]) => form.formState.dirtyFields.profile?.[field]))
  const good = now !== null && Object.keys(wrong).length === 0

  const open = async (picked: File | undefined) => {
    if (!picked) return
    try {
      const found = HubProfile.safeParse(JSON.parse(await picked.text()))
      if (!found.success) {
        const [first] = found.error.issues
        const field = first?.path.join('.') || 'The profile'
        const message = first?.message.endsWith('received undefined') ? `${field} is missing in it` : `${field}: ${first?.message}`
        return setProblem({ message, hint: 'Is it a hub profile that Embrik wrote?' })
      }
      form.reset({ profile: found.data })
      if (found.data.token) setRecipe(typedOf(found.data.token))
      setProblem(null)
    } catch {
      setProblem({ message: `${picked.name} is no JSON`, hint: 'Choose a file that Embrik wrote' })
    }
  }
  const save = () => {
    setTried(true)
    if (good) onSave(now)
  }
  return (
    <Modal
      open
      onClose={onClose}
      width={900}
      title="Hub profile"
      note="How this kind of hub wants to be spoken to, from its own documents; nothing secret stands in it"
      foot={
        <>
          <input
            ref={file}
            type="file"
            accept=".json"
            aria-label="Profile file"
            className="hidden"
            onChange={(e) => void open(e.target.files?.[0])}
          />
          <Button onClick={() => file.current?.click()}>
            <Upload size={14} /> Open a file
          </Button>
          <Button disabled={!good} onClick={() => now && saveFile(`${fileNameOf(now.name)}.json`, new Blob([`${JSON.stringify(now, null, 2)}\n`]))}>
            <Download size={14} /> Save as a file
          </Button>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" onClick={save}>
            Use this profile
          </Button>
        </>
      }
    >
      <div className="grid grid-cols-[1fr_330px] gap-6">
        <Form label="Hub profile" onSubmit={save}>
          <TextField label="Profile name" autoFocus error={shown.name} {...form.register('profile.name')} />
          <SettingsForm path="profile" schema={HubProfile} form={form} errors={shown} hide={(field) => field === 'user'} />
          {byToken && (
            <>
              <Heading>Tokens</Heading>
              <RecipeFields
                recipe={recipe}
                user={values.user}
                wrong={(field) => wrong[field.replace('recipe.', 'token.')]}
                onRecipe={setRecipe}
                onUser={(user) => form.setValue('profile.user', user, { shouldDirty: true })}
              />
            </>
          )}
        </Form>
        <div>
          {problem && <ProblemNote problem={problem} />}
          <Heading>What it gives</Heading>
          {good ? <ProfileView profile={now} typed={typed} /> : <p className="text-muted">What is marked is to be corrected first.</p>}
        </div>
      </div>
    </Modal>
  )
}
