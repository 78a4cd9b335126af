# The legacy copy protocol spoken by hand over paramiko: a file there and back, and one that is refused.
import sys
import paramiko

host, port, account, password = sys.argv[1], int(sys.argv[2]), sys.argv[3], sys.argv[4]
client = paramiko.SSHClient()
client.set_missing_host_key_policy(paramiko.AutoAddPolicy())
client.connect(host, port, account, password, allow_agent=False, look_for_keys=False)


def run(command):
    channel = client.get_transport().open_session()
    channel.exec_command(command)
    return channel


channel = run("scp -t 'from python'")
assert channel.recv(1) == b"\0"
channel.sendall(b"C0644 11 any name\n")
assert channel.recv(1) == b"\0"
channel.sendall(b"from python\0")
assert channel.recv(1) == b"\0"
channel.shutdown_write()
print("status", channel.recv_exit_status())

channel = run("scp -f 'from python'")
channel.sendall(b"\0")
head = channel.recv(100)
channel.sendall(b"\0")
body = b""
while not body.endswith(b"\0"):
    body += channel.recv(100)
channel.sendall(b"\0")
print("got", head, body, "status", channel.recv_exit_status())

channel = run("scp -t /")
assert channel.recv(1) == b"\0"
channel.sendall(b"C0644 1 ../above\n")
print("refused", channel.recv(200))
channel.close()
client.close()
