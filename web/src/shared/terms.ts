/** Every trade word on the screens, explained in a sentence or two. */
export const TERMS = {
  "usable capacity":
    "What is left for files after everything: redundancy, spares, labels, uneven sizes, and the file system itself.",
  guaranteed: "Drive failures at the same time that lose no data, whichever drives fail.",
  "best case":
    "Drive failures at the same time that lose no data if the right drives fail, at most so many in each set.",
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
  readings:
    "What a drive keeps of itself and reports when asked, by the open standards. A reading that was never taken is unknown, never good.",
  "surface scan":
    "Reading every place of a drive, used or not. In a pool, what cannot be read comes from the others and is written anew.",
  "error-recovery limit":
    "How long a drive tries to read a bad sector before it says that it cannot. In a pool the whole set waits for it.",
  check: "Reading everything and comparing parity and checksums (scrub). Finds damage before it matters.",
  "first sync":
    "Bringing the redundancy of a new pool in step with whatever the drives hold. The volume can be used meanwhile, slower.",
  rebuild: "Computing what was on a failed drive from the others of its set, and writing it to a new one.",
  drain:
    "To empty drives, a shelf or a host of its data while everything stays in use and as protected as before.",
  record:
    "Every drive of a pool keeps what the pool is: its layout, its volumes and their files. The drives alone are enough to bring it in at another installation.",
  "allocated to volumes":
    "All of a thick volume, and of a thin one what has been written; in a spread pool with its redundancy.",
  bin: "What was deleted in shares that have a bin. It goes for good after the share's days.",
  reclaim: "Extents of thin volumes on which no file stands, or one that lies in a bin.",
  promised: "The whole sizes of all volumes. Thin ones may be promised more than there is.",
  "held back": "The share that file systems keep for their administrator.",
  extent: "The unit of allocation: 1 GiB.",
  "what-if": "Drives you do not have yet, typed as groups such as 5x4TB,3x8TB.",
  gentle: "Users come first: the job takes a fifth of the drives' time.",
  fast: "The job comes first: users get a fifth of the drives' time.",
  "simulated time":
    "The drives here are simulated and hold real bytes. Their hours can pass faster than ours.",
  "yearly loss":
    "The chance that the pool's data are lost within a year, for independent failures, with one repair at a time.",
  "yearly damage":
    "The chance that within a year a rebuild meets an unreadable sector with no redundancy left to mend it, or that all is lost. Mostly one file, not the pool. UBER is the maker's ceiling.",
  "small writes":
    "Small writes a second that all drives bear together. With parity each takes several operations: the old data and parity are read, the new written.",
  "large files": "One large file after the other: how many bytes a second can be written.",
  unbeaten: "No other layout is at least as good on everything and better on something (Pareto front).",
  workload: "What the capacity is for. It decides the order of the list and which layout is suggested.",
  "cost per TB": "The price of all drives, spares included, for each usable terabyte (10¹² bytes).",
  AFR: "Annual failure rate: the chance that a drive fails within a year.",
  UBER: "Unrecoverable bit error rate: unreadable sectors per bit read, the maker's ceiling.",
  door: "A later change: open, open at a cost, or closed for good with this layout.",
  "survival curve":
    "For each number of drives failing at the same time, the probability that all data are still there, all choices being equally likely.",
  "failure domain": "What fails as one: a drive, a shelf, a host, a site.",
  "spread pool":
    "A stock of extents on all drives. Each volume chooses its own protection; a lost drive is repaired by all the others together.",
  "mount table":
    "The host's list of what it mounts, and where, when it starts. Each line names the file system by its UUID.",
  stripe: "Extents that protect one another, each in a failure domain of its own.",
  "pool use": "What a volume takes on the drives, redundancy included.",
  "self-repair":
    "After the loss of any one failure domain everything can be brought back to full protection on the others, without a new drive.",
  "mean time to data loss": "Mean time until data are lost. It compares layouts; it predicts no single pool.",
  restore: "Bringing everything back from the backup over its link.",
} as const;
