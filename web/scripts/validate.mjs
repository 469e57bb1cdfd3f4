// Says which documents a JSON Schema takes: node validate.mjs SCHEMA DOCUMENTS, where the second file is a JSON array.
import { readFileSync } from 'node:fs'
import Ajv from 'ajv/dist/2020.js'

const read = (path) => JSON.parse(readFileSync(path, 'utf8'))
const [schema, documents] = process.argv.slice(2).map(read)
// Strict: whatever of the schema the validator does not know is an error. Its patterns are read as ECMA-262 with the
// flag u, as the JSON Schema specification recommends.
const ajv = new Ajv({ strict: true, strictTypes: false, unicodeRegExp: true, validateFormats: false })
const check = ajv.compile(schema)
process.stdout.write(JSON.stringify(documents.map((d) => check(d))))
