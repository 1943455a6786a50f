// How much an expression can cost at the most, told from its text: it is computed in the engine's loop, with each change of a value.

/** So many steps may one answer take, some tens of ms at the worst. */
export const STEPS_MAX = 300_000
/** So long may a text become on the way. */
export const CHARS_MAX = 4_000_000
/** Longer texts of tags are not computed with. */
export const TEXT_MAX = 16_384
/** What a function of ours makes of a text at the most. */
export const REPLACED_MAX = 65_536
/** Digits and the like. */
const SHORT = 32

/** Bounds of what a part of an expression gives: `chars` of all texts in it together; of a list how many, and what is in it. */
interface Cost {
  steps: number
  chars: number
  items: number
  element: Cost | null
}

interface Node {
  op: string
  args: unknown
}

const isNode = (x: unknown): x is Node => typeof x === 'object' && x !== null && 'op' in x
const scalar = (chars = SHORT): Cost => ({ steps: 1, chars, items: 0, element: null })
const larger = (a: Cost | null, b: Cost | null): Cost | null =>
  a === null || b === null
    ? (a ?? b)
    : { steps: 0, chars: Math.max(a.chars, b.chars), items: Math.max(a.items, b.items), element: larger(a.element, b.element) }

/** Macros that go over a list, with what they give of the list and of what is computed for each item. */
const OVER: Record<string, 'same' | 'mapped' | 'scalar'> = {
  map: 'mapped',
  filter: 'same',
  all: 'scalar',
  exists: 'scalar',
  exists_one: 'scalar',
  existsOne: 'scalar',
}

type Scope = ReadonlyMap<string, Cost>

/** Bounds of an expression's tree; `texts` are the variables that hold text. */
export function costOf(root: unknown, texts: ReadonlySet<string>): { steps: number; chars: number } {
  let chars = 0
  const note = (cost: Cost): Cost => {
    chars = Math.max(chars, cost.chars)
    return cost
  }
  const all = (nodes: readonly unknown[], scope: Scope): Cost[] => nodes.filter(isNode).map((n) => cost(n, scope))
  const steps = (parts: readonly Cost[]) => parts.reduce((n, p) => n + p.steps, 1)

  function method(name: string, of: Cost, args: readonly unknown[], scope: Scope): Cost {
    const how = OVER[name]
    if (how) {
      const [variable, ...bodies] = args.filter(isNode)
      const item = of.element ?? scalar(of.items > 0 ? Math.ceil(of.chars / of.items) : of.chars)
      const inside = new Map(scope).set(String(variable?.args ?? ''), item)
      const body = all(bodies, inside)
      const last = body.at(-1) ?? scalar()
      const total = of.steps + Math.max(1, of.items) * steps(body)
      if (how === 'scalar') return { ...scalar(), steps: total }
      if (how === 'same') return { ...of, steps: total }
      return { steps: total, chars: Math.max(1, of.items) * last.chars, items: of.items, element: last }
    }
    const rest = all(args, scope)
    const total = of.steps + steps(rest)
    if (name === 'split') return { steps: total, chars: of.chars, items: of.chars + 1, element: scalar(1) }
    if (name === 'join') return { steps: total + of.items, chars: of.chars + of.items * (rest[0]?.chars ?? 0), items: 0, element: null }
    return { steps: total, chars: Math.max(of.chars, ...rest.map((r) => r.chars)), items: of.items, element: of.element }
  }

  function called(name: string, args: readonly unknown[], scope: Scope): Cost {
    const parts = all(args, scope)
    const total = steps(parts) + parts.reduce((n, p) => n + p.items, 0)
    return { steps: total, chars: name === 'replaced' ? REPLACED_MAX : Math.max(SHORT, ...parts.map((p) => p.chars)), items: 0, element: null }
  }

  function cost(node: Node, scope: Scope): Cost {
    const { op, args } = node
    if (op === 'value') return note(scalar(typeof args === 'string' ? args.length : SHORT))
    if (op === 'id') return note(scope.get(String(args)) ?? scalar(texts.has(String(args)) ? TEXT_MAX : SHORT))
    const list = Array.isArray(args) ? args : [args]
    if (op === 'rcall') {
      const [name, receiver, rest] = list as [string, unknown, unknown[]]
      if (name === 'bind' && isNode(receiver) && receiver.args === 'cel') {
        const [variable, first, body] = rest as [Node, Node, Node]
        const bound = cost(first, scope)
        const inside = cost(body, new Map(scope).set(String(variable.args), { ...bound, steps: 1 }))
        return note({ ...inside, steps: bound.steps + inside.steps })
      }
      return note(method(name, isNode(receiver) ? cost(receiver, scope) : scalar(), rest ?? [], scope))
    }
    if (op === 'call') return note(called(String(list[0]), (list[1] as unknown[]) ?? [], scope))
    const parts = all(list.flat(2), scope)
    const total = steps(parts)
    if (op === 'list')
      return note({
        steps: total,
        chars: parts.reduce((n, p) => n + p.chars, 0),
        items: parts.length,
        element: parts.reduce<Cost | null>(larger, null),
      })
    const [a, b] = parts
    if (op === '+' && a && b) return note({ steps: total, chars: a.chars + b.chars, items: a.items + b.items, element: larger(a.element, b.element) })
    if (op === '[]' && a) return note({ ...(a.element ?? scalar(a.chars)), steps: total })
    return note({ ...parts.reduce((x, y) => larger(x, y)!, scalar()), steps: total })
  }

  const whole = isNode(root) ? cost(root, new Map()) : scalar()
  return { steps: whole.steps, chars }
}
