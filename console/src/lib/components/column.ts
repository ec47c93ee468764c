/** A column of a table: its name, and what is special about it. */
export type Column =
  | string
  | {
      name: string
      /** Numbers stand at the right. */
      right?: boolean
      /** Its cells speak for themselves; the name is for screen readers. */
      spoken?: boolean
      /** Left out in narrow windows. */
      hidden?: boolean
    }
