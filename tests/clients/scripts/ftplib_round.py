# The round of tests/clients with Python's ftplib, and its abort().
import ftplib
import io
import ssl
import sys

host, port, password, small, big = sys.argv[1:6]
f = ftplib.FTP_TLS(context=ssl._create_unverified_context())
f.connect(host, int(port))
f.login("ann", password)
f.prot_p()


def tried(what, do):
    try:
        do()
        print(what, "worked")
    except Exception as e:
        print(what, "refused:", type(e).__name__, e)


f.mkd("round")
f.storbinary("STOR round/a", open(small, "rb"))
f.rename("round/a", "round/b")
print("listed", f.nlst("round"), [name for name, _ in f.mlsd("round")])
back = io.BytesIO()
f.retrbinary("RETR round/b", back.write)
open(small + ".back", "wb").write(back.getvalue())
print("size", f.size("round/b"))
tried("quota", lambda: f.storbinary("STOR round/big", open(big, "rb")))
tried("right", lambda: f.delete("kept/here"))
tried("nothing", lambda: f.size("nothing"))
tried("folder", lambda: f.nlst("secret"))
f.delete("round/b")
f.quit()

p = ftplib.FTP()
p.connect(host, int(port), timeout=60)
p.login("plain", password)
p.voidcmd("TYPE I")
data = p.transfercmd("RETR large")
data.recv(1000)
print("abort:", p.abort())
data.close()
print("after it:", p.voidresp())
print("in step:", p.voidcmd("NOOP"), p.pwd())
p.quit()
