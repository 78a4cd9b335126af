// The round of tests/clients with ssh2.
const { Client } = require("ssh2")
const { promisify } = require("util")
const [host, port, password, small, big] = process.argv.slice(2)

const c = new Client()
c.on("ready", () =>
  c.sftp(async (err, sftp) => {
    const call = (name, ...args) => promisify(sftp[name].bind(sftp))(...args)
    const tried = (what, run) =>
      run().then(
        () => console.log(what, "worked"),
        (e) => console.log(what, "refused:", e.message),
      )
    try {
      if (err) throw err
      await call("mkdir", "round")
      await call("fastPut", small, "round/a")
      await call("rename", "round/a", "round/b")
      console.log("listed", (await call("readdir", "round")).map((e) => e.filename).join())
      await call("fastGet", "round/b", small + ".back")
      await call("symlink", "b", "round/link")
      console.log("link", await call("readlink", "round/link"))
      await tried("quota", () => call("fastPut", big, "round/big"))
      await tried("right", () => call("unlink", "kept/here"))
      await tried("nothing", () => call("stat", "nothing"))
      await tried("folder", () => call("readdir", "secret"))
      await call("unlink", "round/link")
      await call("unlink", "round/b")
      c.end()
    } catch (e) {
      console.log("failed:", e)
      process.exit(1)
    }
  }),
)
c.connect({ host, port: Number(port), username: "ann", password })
