// Every option of tus-js-client that changes what it sends, one after the other: what came of each.
const fs = require('fs')
const tus = require('tus-js-client')
const [link, folder] = process.argv.slice(2)
const endpoint = link + 'uploads'
const content = Buffer.alloc(40_000, 'readings of the gauge at the quay\n')

function send(name, options, more = {}) {
  return new Promise((resolve) => {
    const sent = []
    const upload = new tus.Upload(more.input ?? content, {
      endpoint, metadata: { filename: name }, retryDelays: [],
      onBeforeRequest: (r) => void sent.push(r.getMethod() + (r.getHeader('X-HTTP-Method-Override') ? '=' + r.getHeader('X-HTTP-Method-Override') : '')),
      onSuccess: () => resolve('done by ' + sent.join(' ')),
      onError: (error) => resolve('refused: ' + (error.originalResponse ? error.originalResponse.getStatus() + ' ' + error.originalResponse.getBody() : error.message)),
      ...options,
      ...(more.stopAt ? { onProgress: (n) => { if (n >= more.stopAt) void upload.abort().then(() => resolve(upload)) } } : {}),
    })
    if (more.before) more.before(upload)
    upload.start()
  })
}

async function round() {
  const say = async (name, options, more) => console.log(name + ': ' + (await send(name, options, more)))
  await say('plain', {})
  await say('chunks', { chunkSize: 15_000 })
  await say('at-once', { uploadDataDuringCreation: true })
  await say('at-once-in-chunks', { uploadDataDuringCreation: true, chunkSize: 15_000 })
  await say('override', { overridePatchMethod: true })
  await say('numbered', { addRequestId: true, headers: { 'X-Own': 'yes' } })
  await say('size-said', { uploadSize: content.length })
  await say('stream', { chunkSize: 15_000, uploadSize: content.length }, { input: fs.createReadStream(folder + '/content') })
  await say('empty', {}, { input: Buffer.alloc(0) })
  await say('parallel', { parallelUploads: 2 })
  await say('deferred', { uploadLengthDeferred: true, chunkSize: 15_000 }, { input: fs.createReadStream(folder + '/content') })
  const stopped = await send('goes-on', { chunkSize: 10_000 }, { stopAt: 15_000 })
  await say('goes-on', { uploadUrl: stopped.url, chunkSize: 10_000 })
  const urlStorage = new tus.FileUrlStorage(folder + '/urls')
  const options = { chunkSize: 10_000, urlStorage, removeFingerprintOnSuccess: true, fingerprint: () => Promise.resolve('one-file') }
  await send('remembered', options, { stopAt: 15_000 })
  const before = (upload) => {
    const start = upload.start.bind(upload)
    upload.start = () => upload.findPreviousUploads().then((found) => { console.log('remembered of it: ' + found.length); if (found[0]) upload.resumeFromPreviousUpload(found[0]); start() })
  }
  await say('remembered', options, { before })
  await new Promise((later) => setTimeout(later, 300)) // the client forgets after it has said so
  console.log('remembered afterwards: ' + (await urlStorage.findUploadsByFingerprint('one-file')).length)
  const ended = await send('ended', { chunkSize: 10_000 }, { stopAt: 15_000 })
  await tus.Upload.terminate(ended.url).then(() => console.log('ended: gone'), (error) => console.log('ended: ' + error.message))
  await say('none-left', { uploadUrl: ended.url, endpoint: undefined })
}
fs.writeFileSync(folder + '/content', content)
round().catch((error) => { console.error(error); process.exit(1) })
