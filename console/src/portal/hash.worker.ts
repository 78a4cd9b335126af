// Computes the SHA-256 of a file beside its upload, piece by piece.
import { sha256 } from '@noble/hashes/sha2.js'
import { bytesToHex } from '@noble/hashes/utils.js'

const piece = 4 << 20

onmessage = async (event: MessageEvent<File>) => {
  try {
    const file = event.data
    const sum = sha256.create()
    for (let at = 0; at < file.size; at += piece) sum.update(new Uint8Array(await file.slice(at, at + piece).arrayBuffer()))
    postMessage({ hash: bytesToHex(sum.digest()) })
  } catch (error) {
    postMessage({ wrong: String(error) })
  }
}
