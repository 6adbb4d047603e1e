/** Every trade word on the screens, explained in a sentence or two. */
export const TERMS = {
  "usable capacity":
    "What is left for files after everything: redundancy, spares, labels, uneven sizes, and the file system itself.",
  guaranteed: "The most drives that may fail at the same time, whichever they are, without losing data.",
  "best case":
    "The most drives that may fail at the same time if they happen to be the right ones, at most so many in each set.",
  raw: "Every byte of every chosen drive, as the makers count them.",
  spares: "Idle drives that take over by themselves when one fails. They hold no data until then.",
  labels:
    "The partition table and the label on each drive, and what is left of its last whole extent of 1 GiB.",
  uneven: "Capacity that no set or band can use, because the drives differ in size.",
  redundancy: "Copies or parity: what makes it possible to compute what was on a failed drive.",
  repair: "Kept free so that the pool can repair itself onto the remaining drives.",
  reserve: "Kept free in the pool.",
  "file system":
    "What the file system's own structures take, and the share it keeps back. An estimate, within 1 % of the volume.",
  usable: "What is left for files after everything.",
  set: "Drives that protect one another inside a pool (RAID group). Data is spread over all sets; losing one set loses the pool.",
  spare: "An idle drive that takes over by itself when another fails (hot spare).",
  scheme: "How a set protects itself: copies, parity over one, two or three drives, or not at all.",
  check: "Reading everything and comparing parity and checksums (scrub). Finds damage before it matters.",
  "first sync":
    "Bringing the redundancy of a new pool in step with whatever the drives hold. The volume can be used meanwhile, slower.",
  rebuild: "Computing what was on a failed drive from the others of its set, and writing it to a new one.",
  extent: "The unit of allocation: 1 GiB.",
  "what-if": "Drives you do not have yet, typed as groups such as 5x4TB,3x8TB.",
  gentle: "Users come first: the job takes a fifth of the drives' time.",
  fast: "The job comes first: users get a fifth of the drives' time.",
  "simulated time":
    "The drives here are simulated and hold real bytes. Their hours can pass faster than ours.",
} as const;
