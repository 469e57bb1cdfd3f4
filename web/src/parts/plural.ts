/** A number with its noun: "1 step", "2 steps". */
export const plural = (n: number, one: string, many = `${one}s`) => `${n} ${n === 1 ? one : many}`
