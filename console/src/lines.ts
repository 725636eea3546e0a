// A log as it is read: very many lines, held outside of React, so that a burst costs one drawing.

import { logsPath } from './api'
import type { LogLine, Target } from './model'

/** More than this are not kept: the oldest make room, a piece at a time. */
const KEPT = 1_000_000
const PIECE = 100_000

export interface Sight {
  /** What is to be shown, as places in `lines`. */
  length: number
  at: (index: number) => LogLine
  /** How many lines there are, found or not. */
  total: number
  /** How many made room. */
  dropped: number
  trouble: string
  /** Whether the stream has begun to tell. */
  read: boolean
}

/** The lines of a workload's replicas, with what is looked for among them. */
export class Lines {
  private lines: LogLine[] = []
  private found: number[] | null = null
  private looked = 0
  private words = ''
  private replica = ''
  private dropped = 0
  private trouble = ''
  private read = false
  private scheduled = false
  private readonly listeners = new Set<() => void>()
  private sight: Sight = this.see()
  private readonly stop = new AbortController()

  constructor(private readonly target: Target, private readonly tail: number) {}

  subscribe = (listener: () => void) => {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  present = () => this.sight

  /** Shows only lines with these words, in any case, and of this replica; an empty one stands for all. */
  look(words: string, replica: string) {
    if (words === this.words && replica === this.replica) return
    this.words = words
    this.replica = replica
    this.found = words === '' && replica === '' ? null : []
    this.looked = 0
    this.schedule()
  }

  end() {
    this.stop.abort()
  }

  async follow() {
    try {
      const answer = await fetch(logsPath(this.target, this.tail), { signal: this.stop.signal })
      if (!answer.ok || answer.body === null) throw new Error(`the platform answers ${answer.status}`)
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader()
      let rest = ''
      for (;;) {
        this.read = true
        const { value, done } = await reader.read()
        if (done) throw new Error('the stream ended')
        const pieces = (rest + value).split('\n')
        rest = pieces.pop() ?? ''
        for (const piece of pieces) if (piece !== '') this.lines.push(JSON.parse(piece) as LogLine)
        if (this.lines.length > KEPT + PIECE) this.makeRoom()
        this.schedule()
      }
    } catch (cause) {
      if (this.stop.signal.aborted) return
      this.trouble = `The log is cut: ${cause instanceof Error ? cause.message : 'the stream broke'}.`
      this.schedule()
    }
  }

  private makeRoom() {
    const many = this.lines.length - KEPT
    this.lines = this.lines.slice(many)
    this.dropped += many
    this.looked = 0
    if (this.found !== null) this.found = []
  }

  private schedule() {
    if (this.scheduled) return
    this.scheduled = true
    requestAnimationFrame(() => {
      this.scheduled = false
      // A part at a time: the page answers to the keyboard while a million lines are looked through.
      const more = this.lookOn(performance.now() + 8)
      this.sight = this.see()
      this.listeners.forEach((listener) => listener())
      if (more) this.schedule()
    })
  }

  private lookOn(until: number): boolean {
    if (this.found === null) return false
    const words = this.words.toLowerCase()
    while (this.looked < this.lines.length) {
      const line = this.lines[this.looked]
      const fits = line !== undefined
        && (this.replica === '' || line.replica.endsWith(`/${this.replica}`))
        && (words === '' || line.text.toLowerCase().includes(words))
      if (fits) this.found.push(this.looked)
      this.looked += 1
      if (this.looked % 2000 === 0 && performance.now() > until) return true
    }
    return false
  }

  private see(): Sight {
    const { lines, found } = this
    const length = found === null ? lines.length : found.length
    const at = (index: number) => lines[found === null ? index : (found[index] ?? 0)] ?? { at: 0, replica: '', source: 'k', text: '' }
    return { length, at, total: lines.length, dropped: this.dropped, trouble: this.trouble, read: this.read }
  }
}
