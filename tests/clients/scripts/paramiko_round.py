# The round of tests/clients with paramiko. Each refusal is printed as its user sees it.
import sys
import paramiko

host, port, password, small, big = sys.argv[1:6]
t = paramiko.Transport((host, int(port)))
t.connect(username="ann", password=password)
c = paramiko.SFTPClient.from_transport(t)


def tried(what, do):
    try:
        do()
        print(what, "worked")
    except Exception as e:
        print(what, "refused:", type(e).__name__, e)


c.mkdir("round")
c.put(small, "round/a")
c.rename("round/a", "round/b")
print("listed", c.listdir("round"))
c.get("round/b", small + ".back")
c.symlink("b", "round/link")
print("link", c.readlink("round/link"))
c.utime("round/b", (1500000000, 1600000000))
print("times", c.stat("round/b").st_atime, c.stat("round/b").st_mtime)
tried("quota", lambda: c.put(big, "round/big"))
tried("right", lambda: c.remove("kept/here"))
tried("nothing", lambda: c.stat("nothing"))
tried("folder", lambda: c.listdir("secret"))
c.remove("round/link")
c.remove("round/b")
t.close()

d = paramiko.Transport((host, int(port)))
d.connect(username="dropper", password=password)
paramiko.SFTPClient.from_transport(d).put(small, "dropped")
print("dropped and looked at")
d.close()
