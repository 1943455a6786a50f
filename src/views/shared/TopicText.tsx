/** Topics differ at their ends: what there is no room for is left out before the last two levels. */
export function TopicText({ topic }: { topic: string }) {
  const at = topic.lastIndexOf('/', topic.lastIndexOf('/') - 1)
  const end = at > 0 && topic.length - at < 40 ? topic.slice(at) : ''
  return (
    <span className="flex min-w-0">
      <span className="truncate">{topic.slice(0, topic.length - end.length)}</span>
      <span className="shrink-0">{end}</span>
    </span>
  )
}
