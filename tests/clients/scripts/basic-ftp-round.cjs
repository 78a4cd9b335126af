// The round of tests/clients with basic-ftp.
const { Client } = require("basic-ftp")
const { Readable } = require("stream")
const [host, port, password, small, big] = process.argv.slice(2)

async function tried(c, what, run) {
  try {
    await run()
    console.log(what, "worked")
  } catch (e) {
    console.log(what, "refused:", e.message)
    if (c.closed) await enter(c)
  }
}
const enter = (c) => c.access({ host, port: Number(port), user: "ann", password, secure: true, secureOptions: { rejectUnauthorized: false } })

;(async () => {
  const c = new Client(60000)
  await enter(c)
  await c.send("MKD round")
  await c.uploadFrom(small, "round/a")
  await c.rename("round/a", "round/b")
  console.log("listed", (await c.list("round")).map((e) => e.name).join())
  await c.downloadTo(small + ".back", "round/b")
  console.log("size", await c.size("round/b"))
  let empty = 0
  for (let n = 0; n < 10; n++) {
    await c.uploadFrom(Readable.from([]), "round/empty") // which ends before anything was sent
    empty++
  }
  await c.remove("round/empty")
  console.log("empty files", empty)
  await tried(c, "quota", () => c.uploadFrom(big, "round/big"))
  await tried(c, "right", () => c.remove("kept/here"))
  await tried(c, "nothing", () => c.size("nothing"))
  await tried(c, "folder", () => c.list("secret"))
  await c.remove("round/b")
  c.close()
})().catch((e) => {
  console.log("failed:", e)
  process.exit(1)
})
