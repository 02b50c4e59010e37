# A cluster of one machine in the present folder: sourced by tests. `slurm_begin` starts it, `slurm_end` ends it.

slurm_begin() {
  local host ports
  host=$(hostname -s)
  ports=$(python3 -c '
import socket
two = [socket.socket() for _ in range(2)]
for s in two: s.bind(("127.0.0.1", 0))
print(*(s.getsockname()[1] for s in two))')
  export SLURM_CONF=$PWD/slurm/slurm.conf
  mkdir -p slurm/state slurm/spool
  cat > "$SLURM_CONF" <<EOF
ClusterName=here
SlurmctldHost=$host(127.0.0.1)
SlurmctldPort=${ports% *}
SlurmdPort=${ports#* }
SlurmUser=$(id -un)
SlurmdUser=$(id -un)
AuthType=auth/none
CredType=cred/none
ProctrackType=proctrack/pgid
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
StateSaveLocation=$PWD/slurm/state
SlurmdSpoolDir=$PWD/slurm/spool
SlurmctldPidFile=$PWD/slurm/ctld.pid
SlurmdPidFile=$PWD/slurm/d.pid
SlurmctldLogFile=$PWD/slurm/ctld.log
SlurmdLogFile=$PWD/slurm/d.log
MpiDefault=none
ReturnToService=2
NodeName=$host NodeAddr=127.0.0.1 CPUs=$(nproc) State=UNKNOWN
PartitionName=all Nodes=ALL Default=YES MaxTime=INFINITE State=UP
EOF
  slurmctld -D > slurm/ctld.out 2>&1 &
  slurmd -D > slurm/d.out 2>&1 &
  for _ in $(seq 600); do
    sinfo --noheader --format=%T 2> /dev/null | grep -q "idle" && return 0
    sleep 0.1
  done
  echo "the cluster does not come up"
  tail -n 20 slurm/*.out slurm/*.log
  return 1
}

slurm_end() {
  kill $(jobs -p) 2> /dev/null
  wait
}
