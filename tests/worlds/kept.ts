/** Worlds that were wrong once, and what was wrong. They are run again each time. */
export const kept: readonly [seed: number, what: string, drawn?: 'old'][] = [
  [5003246, 'a second copy after a take-over was taken for a repetition: only the dead engine knew that the message had gone out twice', 'old'],
  [5003496, 'the same, with a quota of the broker in between', 'old'],
  [5004344, 'a copy that waited for its message to go out again waited for ever, since that was refused: nothing was judged any more', 'old'],
  [6000107, 'over 3.1.1 a broker with an older session handed out again what had come, and it counted as doubled', 'old'],
  [6003652, 'refused when it was to go out again, then seen in time: called late', 'old'],
  [6008921, 'an engine opened a new session, died before it could write that, and the next one took its filters for granted', 'old'],
  [7003101, 'at QoS 2 the first sending counts, also one by an engine that died: called missing though nobody listened then', 'old'],
  [8000874, 'the same after the wall clock was set back: when an earlier engine had sent could not be told by it', 'old'],
  [9000275, 'over 3.1.1 a copy waited a minute for its message to go out again, behind a long backlog, and was given up as foreign', 'old'],
  [792336172, 'the link was said to be lost on a message though the broker had been silent: a later lost link changed the reason that was told'],
  [1000003444, 'the same with links cut every two and every five seconds: the witness, cut off at the same moments, was not asked'],
  [100001328, 'a message went aside though nobody hung up on it: a link that flapped was lost three times while it was alone on it, by chance'],
  [
    838352412,
    'the place behind the last message went back when an old segment was the last one left: identifiers were given again while the broker held them',
  ],
  [90000190, 'copies that waited for their message when a witness ended came again to the next one, and counted twice'],
  [
    700021163,
    'a destination was saved while the database hung: what the old witness had counted was not written when the new one read where it was, and counted twice',
  ],
  [400034262, 'a dead engine sent again what it could not write, its follower could not send it at all: the second copy was taken for a repetition'],
]
