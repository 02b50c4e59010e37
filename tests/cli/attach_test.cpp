// The live view in a terminal: the built program behind a pseudo-terminal, keys in, screen read (terminal.py); and
// from another machine, through ssh.

#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne::test;

namespace {

constexpr const char* kTank = R"(choice Mode { off, on, boost }
bench Tank {
  step 1 ms  method rk4
  record every 10 ms
  input inflow : l/s = 2 l/s
  input mode : Mode = off
  input valve : bool = false
  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2
  state level : m = 1 m
  level' = inflow / area
}
fault stuck { on inflow  freeze  by hand }
panel keeper "what the keeper has" {
  choose mode "asked for"
  toggle valve
  slide inflow from 0 l/s to 9 l/s by 1 l/s
  bar level from 0 m to 100 m
  trace level over 10 s
}
)";

/// A tank that runs, or stands, in `folder`/run, and the words that end it.
struct Tank {
  TestFolder folder;
  explicit Tank(const std::string& how = "--paced") {
    folder.write("tank.dyne", kTank);
    const Output o =
        shell(fmt::format("({0} run tank.dyne --fault stuck {1} --open --out run --no-report > run.txt 2>&1 &)\n"
                          "for i in $(seq 600); do {0} read run level > /dev/null 2>&1 && exit 0; sleep 0.1; done; cat "
                          "run.txt; exit 1",
                          ISODYNE_PROGRAM, how),
              folder.path());
    INFO(o.out << o.err);
    REQUIRE(o.status == 0);
  }
  ~Tank() { shell(std::string(ISODYNE_PROGRAM) + " end run", folder.path()); }
  /// The screen as the script shows it.
  Output play(const std::string& size, const std::string& script, const std::string& words = "attach run",
              const std::string& environment = "LC_ALL=C.UTF-8") const {
    folder.write("script", script);
    return shell(fmt::format("{} /usr/bin/python3 {}/tests/cli/terminal.py {} -- {} {} < script", environment, kSource,
                             size, ISODYNE_PROGRAM, words),
                 folder.path());
  }
};

bool can_play() {
  return shell("/usr/bin/python3 -c 'import pyte'").status == 0;
}

}  // namespace

TEST_CASE("A run is operated in the terminal") {
  if (!can_play()) return;
  const Tank tank;
  const Output o = tank.play("80x24", R"(until what the keeper has
until ◀ off ▶
key \eOC
until enter: mode becomes on
key \r
until mode set at
until ◀ on ▶
key \t
key  
until [ on  ]
key \t
key \eOC
until 3 l/s
key c
type set ar
key \t
until set area
type "2 m^2"
key \r
until area = 2 m^2 at
key c
type set area "9 m^2"
key \r
until is from 0.5 m^2 to 2 m^2
key 4
until stuck
key \r
until acts since
show
key \r
until does not act
key c
type wait "level > 0 m"
key \r
until it came at
key c
type mark "seen from here"
key \r
until noted at
key 6
until seen from here
show
key 2
key c
type capture level inflow --when "inflow > 4 l/s" --before "20 ms" --after "20 ms"
key \r
until it waits for what is to be captured
key c
type set inflow "5 l/s"
key \r
until 41 rows around
key 2
until captured around
show
key ?
until commands, as on the command line
key q
exit
)");
  INFO(o.out << o.err);
  REQUIRE(o.status == 0);
  shows(o.out, "ended with 0");
  shows(o.out, "area: set to 2 m^2 by a client");
  shows(o.out, "captured around");
  shows(o.out, "inflow [l/s]");
  // The run goes on, and was told all of it.
  const Output read = shell(std::string(ISODYNE_PROGRAM) + " read run mode valve area inflow", tank.folder.path());
  for (const char* part : {"on", "true", "2 m^2", "5 l/s"}) shows(read.out, part);
}

TEST_CASE("The terminal may be small, old, without colours, resized, or asleep") {
  if (!can_play()) return;
  const Tank tank;
  const Output small =
      tank.play("40x10",
                "until what the keeper\nuntil ◀ off ▶\nshow\nsize 20x5\nuntil too small\nsize 120x40\nuntil "
                "scope\nuntil 7 timing\nshow\nkey q\nexit\n");
  INFO(small.out << small.err);
  CHECK(small.status == 0);
  shows(small.out, "more below");
  shows(small.out, "┌ scope ─");
  const Output old = tank.play("80x24", "until what the keeper\nuntil < off >\nshow\nkey q\nexit\n", "attach run",
                               "LC_ALL=C TERM_OF_TEST=vt100");
  INFO(old.out << old.err);
  CHECK(old.status == 0);
  shows(old.out, "+ what the keeper has ---");
  shows(old.out, "< off >");
  std::string resizes = "until what the keeper\n";
  for (int i = 0; i < 40; ++i) resizes += fmt::format("size {}x{}\n", 31 + i * 37 % 150, 8 + i * 11 % 40);
  const Output often =
      tank.play("80x24", resizes + "size 80x24\nuntil what the keeper has\nuntil 7 timing\nshow\nkey q\nexit\n");
  INFO(often.out << often.err);
  CHECK(often.status == 0);
  shows(often.out, "ended with 0");
  const Output asleep = tank.play("80x24", "until what the keeper\nstop\ngo on\nkey 6\nuntil event\nkey q\nexit\n");
  INFO(asleep.out << asleep.err);
  CHECK(asleep.status == 0);
  shows(asleep.out, "ended with 0");
  const Output none = tank.play("80x24", "until --plain tells the same\nexit\n", "attach run", "TERM_OF_TEST=dumb");
  shows(none.out, "ended with 2");
  const Output unknown =
      tank.play("80x24", "until --plain tells the same\nexit\n", "attach run", "TERM_OF_TEST=nobody-knows-it");
  shows(unknown.out + unknown.err, "ended with 2");
}

TEST_CASE("A view says that its run is over, and one that is over already has none") {
  if (!can_play()) return;
  Output o;
  TestFolder kept;
  {
    const Tank tank;
    o = shell("printf 'until what the keeper\\nshell " + std::string(ISODYNE_PROGRAM) +
                  " end run > /dev/null\\nuntil The run is over: interrupted\\nshow\\nkey q\\nexit\\n' | "
                  "LC_ALL=C.UTF-8 /usr/bin/python3 " +
                  kSource + "/tests/cli/terminal.py 80x24 -- " + ISODYNE_PROGRAM + " attach run",
              tank.folder.path());
    INFO(o.out << o.err);
    CHECK(o.status == 0);
    shows(o.out, "over: interrupted");
    shows(o.out, "ended with 0");
    const Output again = shell(std::string(ISODYNE_PROGRAM) + " attach run", tank.folder.path());
    CHECK(again.status == 3);
    shows(again.err, "nobody can speak to the run");
  }
}

TEST_CASE("Line by line, for pipes and screen readers") {
  const Tank tank;
  // Whoever reads it says the next thing when the values are there.
  const Output o = shell(fmt::format("seen() {{ until grep -qs \"$1\" out.txt; do sleep 0.1; done; }}\n"
                                     "{{ seen 'mode off'; echo 'set mode boost'; seen 's  mode boost'; echo 'set area "
                                     "\"9 m^2\"'; echo frob; seen frob; echo 'inject stuck'; "
                                     "seen 'becomes active'; echo end; }} | {} attach run --plain > out.txt\n"
                                     "status=$?; cat out.txt; exit $status",
                                     ISODYNE_PROGRAM),
                         tank.folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  for (const char* part :
       {"Tank: paced", "mode off", "mode boost", "> mode = boost at", "! `area` is from 0.5 m^2 to 2 m^2",
        "! there is no command `frob`", "stuck: becomes active", "The run is over: interrupted"})
    shows(o.out, part);
  CHECK_FALSE(has(o.out, "\x1b"));
}

TEST_CASE("The newest open run is found, and a run elsewhere is reached through ssh") {
  const Tank tank;
  const std::string program = ISODYNE_PROGRAM;
  // What stands for ssh here says what it was asked, and starts it.
  tank.folder.write("fake-ssh", "#!/bin/sh\nfor last; do :; done\necho \"$@\" >> asked.txt\nexec sh -c \"$last\"\n");
  const std::string ssh = "chmod +x fake-ssh; export ISODYNE_SSH=./fake-ssh ISODYNE_FAR=" + program + "; ";
  const Output read = shell(ssh + program + " read ada@bench:run level mode", tank.folder.path());
  INFO(read.out << read.err);
  CHECK(read.status == 0);
  shows(read.out, "off");
  shows(slurp(tank.folder / "asked.txt"), "-T -- ada@bench " + program + " attach --relay 'run'");
  const Output set = shell(ssh + program + " set ada@bench:run mode on", tank.folder.path());
  CHECK(set.status == 0);
  shows(set.out, "mode = on at");
  const Output lines =
      shell(ssh + "{ sleep 1; echo 'read mode'; sleep 1; } | timeout 20 " + program + " attach ada@bench:run --plain",
            tank.folder.path());
  shows(lines.out, "mode on");
  // A folder's name is data, whatever is in it; a machine is none that begins like an option.
  const Output odd = shell(ssh + program + " read \"ada@bench:x'; touch bad; '\" level", tank.folder.path());
  CHECK(odd.status == 3);
  CHECK_FALSE(std::filesystem::exists(tank.folder / "bad"));
  const Output option = shell(ssh + program + " read -- -oProxyCommand=x:run level", tank.folder.path());
  CHECK(option.status != 0);
  CHECK_FALSE(has(slurp(tank.folder / "asked.txt"), "ProxyCommand"));
  // It breaks off: that is told.
  tank.folder.write("broken-ssh", "#!/bin/sh\necho 'no route to bench' >&2; exit 255\n");
  const Output broken = shell("chmod +x broken-ssh; ISODYNE_SSH=./broken-ssh " + program + " read ada@bench:run level",
                              tank.folder.path());
  CHECK(broken.status == 3);
  shows(broken.err, "no route to bench");
  if (!can_play()) return;
  const Output newest = tank.play("80x24", "until Tank\nkey q\nexit\n", "attach");
  CHECK(newest.status == 0);
  shows(newest.out, "ended with 0");
}

TEST_CASE("Through a real ssh, which then breaks") {
  // Where there is a server that we may start.
  if (!std::filesystem::exists("/usr/sbin/sshd") || !can_play()) return;
  const Tank tank;
  tank.folder.write("go.sh", R"(set -e
ssh-keygen -q -t ed25519 -N '' -f host; ssh-keygen -q -t ed25519 -N '' -f key
port=$(/usr/bin/python3 -c 'import socket; s=socket.socket(); s.bind(("127.0.0.1",0)); print(s.getsockname()[1])')
mkdir -p /run/sshd 2>/dev/null || true
cat > sshd_config <<EOF
Port $port
ListenAddress 127.0.0.1
HostKey $PWD/host
AuthorizedKeysFile $PWD/key.pub
StrictModes no
UsePAM no
EOF
/usr/sbin/sshd -D -f $PWD/sshd_config -E $PWD/sshd.log &
server=$!
trap 'kill $server 2>/dev/null || true' EXIT
sleep 1
kill -0 $server 2>/dev/null || { echo "no server"; exit 0; }
export ISODYNE_SSH="ssh -p $port -i $PWD/key -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o BatchMode=yes"
export ISODYNE_FAR=)" + std::string(ISODYNE_PROGRAM) +
                                 R"(
who=$(id -un)@127.0.0.1
for i in $(seq 50); do $ISODYNE_SSH $who true 2>/dev/null && break; sleep 0.1; done
$ISODYNE_FAR set $who:$PWD/run mode boost
$ISODYNE_FAR read $who:$PWD/run mode
cat > script <<EOF
until what the keeper has
until boost
key 6
until mode: set to boost by a client
show
shell pkill -P $server || true
EOF
echo "until The run is over: " >> script
echo "show" >> script
echo "key q" >> script
echo "exit" >> script
LC_ALL=C.UTF-8 /usr/bin/python3 )" +
                                 kSource + R"(/tests/cli/terminal.py 80x24 -- $ISODYNE_FAR attach $who:$PWD/run < script
)");
  const Output o = shell("bash go.sh", tank.folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  if (has(o.out, "no server")) return;
  shows(o.out, "mode = boost at");
  shows(o.out, "ended with 0");
}

TEST_CASE("Gains are tuned by keys, and what they bring is measured") {
  if (!can_play()) return;
  for (const char* how : {"--paced --speed 20", ""}) {  // in lockstep too, where seconds are nothing
    TestFolder folder;
    // A mass on a spring of which the stiffness and the damping are the gains: of second order, by its closed form.
    folder.write("mass.dyne", R"(bench Mass {
  step 1 ms  method rk4
  record every 100 ms
  input setpoint : m = 0 m
  param kp : 1/s^2 = 40 1/s^2  from 0 1/s^2 to 1000 1/s^2
  param kd : 1/s = 2.53 1/s  from 0 1/s to 100 1/s
  state place : m = 0 m
  state speed : m/s = 0 m/s
  place' = speed
  speed' = kp * (setpoint - place) - kd * speed
}
requirement calm { always place >= -4.5 cm and place <= 14.5 cm }
)");
    const Output o = shell(fmt::format(R"(({0} run mass.dyne {2} --open --out run --no-report > run.txt 2>&1 &)
for i in $(seq 600); do {0} read run place > /dev/null 2>&1 && break; sleep 0.1; done
cat > script <<'EOF'
until tuning
until ends off
key t
until it is tried
until overshoot
gone it is tried
key \eOB
key g
key \eOC
until it is tried
gone it is tried
show
key w
key \r
until `values tuned` is in tuned.dyne
key q
exit
EOF
LC_ALL=C.UTF-8 /usr/bin/python3 {1}/tests/cli/terminal.py 130x30 -- {0} attach run --tune 'kp kd of place by setpoint "0.1 m" within "20 s" judge calm' < script
{0} load run tuned.dyne
{0} end run
)",
                                       ISODYNE_PROGRAM, kSource, how),
                           folder.path());
    INFO(o.out << o.err);
    shows(o.out, "ended with 0");
    // Damping 0.2: exp(-pi z / sqrt(1 - z^2)) = 52.7 %; with 1.4 times that 0.28: 40.0 %.
    shows(o.out, "52.7 %");
    shows(o.out, "40.0 %");
    shows(o.out, "damping 0.200");
    shows(o.out, "damping 0.280");
    // 15.27 cm up, and then 4.00 cm beyond 0.
    shows(o.out, "broken -0.0076");
    shows(o.out, "held 0.00500");
    shows(o.out, "tuned.dyne loaded at");
    shows(slurp(folder / "tuned.dyne"), "kd = 3.54");
  }
}
