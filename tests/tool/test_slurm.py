"""A programme as a job array of a one-node Slurm that this test starts, its shards merged. Skipped (exit 77) where
Slurm or the rights to start it are missing."""
import getpass
import os
import shutil
import socket
import subprocess
import time

from harness import *

daemons = ["munged", "slurmctld", "slurmd", "sbatch"]
if any(shutil.which(d, path=os.environ["PATH"] + ":/usr/sbin") is None for d in daemons) or os.geteuid() != 0:
    print("no Slurm here, or not root")
    sys.exit(77)

host = socket.gethostname().split(".")[0]
cluster = scratch / "cluster"
for folder in ("state", "spool", "log"):
    (cluster / folder).mkdir(parents=True)
os.chmod(scratch, 0o755)
key = cluster / "munge.key"
key.write_bytes(os.urandom(128))
key.chmod(0o400)
sock = cluster / "munge.socket"
user = getpass.getuser()
conf = cluster / "slurm.conf"
conf.write_text(f"""ClusterName=quay
SlurmctldHost={host}(127.0.0.1)
SlurmUser={user}
SlurmdUser={user}
AuthType=auth/munge
AuthInfo=socket={sock}
CredType=cred/munge
StateSaveLocation={cluster}/state
SlurmdSpoolDir={cluster}/spool
SlurmctldPidFile={cluster}/slurmctld.pid
SlurmdPidFile={cluster}/slurmd.pid
SlurmctldLogFile={cluster}/log/slurmctld.log
SlurmdLogFile={cluster}/log/slurmd.log
SlurmctldPort=26817
SlurmdPort=26818
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
MpiDefault=none
ReturnToService=2
SchedulerParameters=sched_interval=1
NodeName={host} NodeAddr=127.0.0.1 CPUs={os.cpu_count()} State=UNKNOWN
PartitionName=all Nodes={host} Default=YES MaxTime=INFINITE State=UP
""")
environment = dict(os.environ, SLURM_CONF=str(conf), PATH=os.environ["PATH"] + ":/usr/sbin")
started = []


def start(*words):
    log = open(cluster / "log" / (words[0] + ".out"), "w")
    started.append(subprocess.Popen(words, env=environment, stdout=log, stderr=log))


def call(*words):
    return subprocess.run(words, env=environment, capture_output=True, text=True, timeout=60)


try:
    start("munged", "--foreground", "--force", f"--key-file={key}", f"--socket={sock}", f"--pid-file={cluster}/munged.pid",
          f"--seed-file={cluster}/munged.seed", f"--log-file={cluster}/log/munged.log")
    for _ in range(100):
        if sock.exists():
            break
        time.sleep(0.1)
    start("slurmctld", "-D")
    start("slurmd", "-D")
    for _ in range(300):
        if "idle" in call("sinfo", "-h", "-o", "%T").stdout:
            break
        time.sleep(0.1)
    state = call("sinfo")
    logs = "".join((cluster / "log" / f).read_text()[-800:] for f in sorted(os.listdir(cluster / "log")))
    expect("idle" in state.stdout, f"the cluster is up: {state.stdout}{state.stderr}\n{logs}")

    case = scratch / "case"
    shutil.copytree(demo / "line", case)
    trials = (case / "trials.toml").read_text().split("# The island's plant")[0]  # its first sweep alone
    (case / "trials.toml").write_text(trials.replace('name = "both ends', 'combine = "random"\ncount = 24\nname = "both ends'))
    job = call("sbatch", "--parsable", "--wait", "--array=1-3", f"--output={cluster}/log/task-%a.out", f"--chdir={scratch}", "--wrap",
               f"{tool} programme {case} --shard slurm --out {scratch}/shards --workers 1 --no-figures")
    tasks = "".join(f.read_text() for f in sorted((cluster / "log").glob("task-*.out")))
    expect(job.returncode == 0, f"the job array ran: {job.stderr}\n{tasks}")
    expect(tasks.count("8 of 8 trials passed") == 3, f"eight trials in each task:\n{tasks}")
    has(run("merge", "whole", *(scratch / "shards" / f"shard-{k}" for k in (1, 2, 3)), "--no-figures"), "24 of 24 trials passed")
finally:
    for process in reversed(started):
        process.terminate()
    for process in started:
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()
has(run("programme", demo / "line", "--shard", "slurm", code=2), "goes with a job array")
finish()
