// One plant, many controllers: the canal lock under every setting, with independent clients as witnesses.

#include <filesystem>
#include <thread>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "../ports/peers.h"
#include "isodyne/record/differences.h"
#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;
using Json = nlohmann::json;

namespace {

const std::string kLockFolder = ISODYNE_SOURCE_FOLDER "/examples/canal-lock/";

/// The example in a folder of its own, its controllers built. Tests run side by side: each has its own `ports`, for
/// Modbus, for MQTT one more, for the link two more.
void copy_lock(TestFolder& folder, int ports) {
  std::filesystem::copy(kLockFolder, folder.path(), std::filesystem::copy_options::recursive);
  std::string text = slurp(folder / "lock.dyne");
  for (const auto& [from, to] : {std::pair<std::string, int>{"127.0.0.1:1502", ports},
                                 {"127.0.0.1:1883", ports + 1},
                                 {"127.0.0.1:5600", ports + 2}}) {
    const std::size_t at = text.find(from);
    REQUIRE(at != std::string::npos);
    text.replace(at, from.size(), fmt::format("127.0.0.1:{}", to));
  }
  folder.write("lock.dyne", text);
  std::string python = slurp(folder / "controller/lockctl.py");
  const std::string clients = "os.path.join(here, \"..\", \"..\", \"..\", \"clients\")";
  const std::size_t at = python.find(clients);
  REQUIRE(at != std::string::npos);
  python.replace(at, clients.size(), "\"" ISODYNE_SOURCE_FOLDER "/clients\"");
  folder.write("controller/lockctl.py", python);
  const Output made = shell(
      "make -s -C controller -B ISODYNE=" ISODYNE_PROGRAM " INCLUDE=" ISODYNE_SOURCE_FOLDER "/include", folder.path());
  INFO(made.err);
  REQUIRE(made.status == 0);
}

void same_recording(const std::string& a, const std::string& b) {
  auto left = record::Recording::open(a + "/recording.h5"), right = record::Recording::open(b + "/recording.h5");
  REQUIRE((left && right));
  CHECK((*left)->times() == (*right)->times());
  for (const std::string& name : record::names_of_both(**left, **right)) {
    INFO(name);
    REQUIRE((*left)->signal(name));
    CHECK((*left)->signal(name) == (*right)->signal(name));
  }
  REQUIRE((*left)->events().size() == (*right)->events().size());
}

Json verdicts(const std::string& run) {
  Json all = Json::parse(slurp(run + "/verdicts.json"));
  return all.at("requirements");
}

}  // namespace

TEST_CASE(
    "The same scenario has the same verdicts, and the same recording to the bit, under model, code and programs") {
  TestFolder folder;
  copy_lock(folder, 21600);
  const auto run = [&](const std::string& name, const std::string& options, const std::string& before = "") {
    const Output out = shell(before + ISODYNE_PROGRAM " run lock.dyne uplock --no-report --out " + name + " " + options,
                             folder.path());
    INFO(out.err);
    REQUIRE(out.status == 0);
  };
  run("code", "--setting code");
  run("model", "--setting model");
  run("program", "--setting program");
  CHECK(verdicts(folder / "code").size() >= 9);
  CHECK(verdicts(folder / "model") == verdicts(folder / "code"));
  CHECK(verdicts(folder / "program") == verdicts(folder / "code"));
  same_recording(folder / "model", folder / "code");
  same_recording(folder / "program", folder / "code");
  // One core or two, and a fault: nothing changes.
  run("short", "--setting code --for '200 s' --fault level_drift");
  for (const char* setting : {"code", "model", "program", "python"}) {
    INFO(setting);
    run(std::string("one_") + setting, std::string("--for '200 s' --fault level_drift --setting ") + setting,
        "taskset -c 0 ");
    same_recording(folder / (std::string("one_") + setting), folder / "short");
  }
  const auto end = run_peer({folder / "controller/lockctl_program", "udp:127.0.0.1:21602"});
  run("remote", "--setting remote --for '200 s' --fault level_drift");
  end();
  same_recording(folder / "remote", folder / "short");
}

TEST_CASE("The canal lock over Modbus and MQTT works like the lock with its controller in this process") {
  TestFolder folder;
  copy_lock(folder, 21610);
  const Broker broker(21611);
  for (const auto& [setting, peer] :
       {std::pair<std::string, std::vector<std::string>>{"device", {"controller/lockctl_modbus", "127.0.0.1", "21610"}},
        {"bus", {"controller/lockctl_mqtt", "127.0.0.1", "21611"}}}) {
    INFO(setting);
    std::vector<std::string> words = peer;
    words[0] = folder / words[0];
    const auto end = run_peer(words);
    // Five times as fast as the clock: the controller's 20 ms are 100 ms of the lock, still quick against its gates.
    const Output out = run_isodyne(
        "run lock.dyne uplock --no-report --paced --speed 5 --for '30 s' --setting " + setting + " --out " + setting,
        folder.path());
    end();
    INFO(out.err << out.out);
    REQUIRE(out.status == 0);
    auto recording = record::Recording::open(folder / (setting + "/recording.h5"));
    REQUIRE(recording);
    // It left its start-up, took the request, and opened paddles with both gates shut.
    const auto phases = *(*recording)->signal("plc.phase");
    CHECK(*std::max_element(phases.begin(), phases.end()) >= 2);
    const Json c = Json::parse(slurp(folder / (setting + "/verdicts.json"))).at("controllers").at(0);
    CHECK(c.at("traffic").at("received").get<int>() > 2);
    CHECK(c.at("traffic").at("refused") == 0);
  }
}

TEST_CASE("mbpoll, pymodbus and mosquitto_sub, which are not ours, read what the bench says") {
  TestFolder folder;
  copy_lock(folder, 21620);
  const Broker broker(21621);
  // The bench goes on until the witnesses have seen it, and they wait for its port: however busy this machine is.
  const Output device = shell(
      ISODYNE_PROGRAM
      " run lock.dyne --for '1 h' --no-report --paced --setting device --out d --answer-within '10 min' >said 2>&1 & "
      "run=$!; bash -c 'for i in $(seq 2400); do (exec 3<>/dev/tcp/127.0.0.1/21620) 2>/dev/null && break; sleep 0.05; "
      "done'\n"
      // Three levels as 32-bit floats from input register 0 (mbpoll counts from 1), most significant word first.
      "mbpoll -m tcp -p 21620 -a 1 -t 3:float -B -r 1 -c 3 -1 -o 10 127.0.0.1 >polled 2>&1\n"
      "/usr/bin/python3 -c \"\n"
      "from pymodbus.client import ModbusTcpClient\n"
      "import struct\n"
      "c = ModbusTcpClient('127.0.0.1', port=21620, timeout=60); c.connect()\n"
      "w = c.read_input_registers(0, 7).registers\n"
      "print('%.1f %.1f' % struct.unpack('>ff', struct.pack('>HHHH', *w[:4])), w[6])\n"
      "print(c.read_discrete_inputs(0, 6).bits[:6])\n"
      "print(c.write_registers(4, [1, 7]).isError(), c.write_register(4, 1).isError())\n"
      "print(c.read_input_registers(900, 1))\n\" >asked 2>&1\n"
      "kill -INT $run; wait $run",
      folder.path());
  const std::string said = slurp(folder / "said"), polled = slurp(folder / "polled"), asked = slurp(folder / "asked");
  INFO(said << polled << asked);
  CHECK(device.status == 3);  // interrupted, with nobody lost
  CHECK_THAT(said, !Catch::Contains("lost"));
  CHECK_THAT(polled, Catch::Contains("[1]: \t2") || Catch::Contains("[1]: \t1.99"));
  CHECK_THAT(asked, Catch::Contains("2.0 6.0 0") && Catch::Contains("[False, True, False, True, False, False]") &&
                        Catch::Contains("True False") && Catch::Contains("Exception Response(132, 4, IllegalAddress)"));

  // Again and again, as nobody knows when the bench begins to listen; until the light is in what it records.
  const Output bus =
      shell("mosquitto_sub -p 21621 -v -t 'harrow/plc/#' >heard & sub=$!; " ISODYNE_PROGRAM
            " run lock.dyne --for '1 h' --no-report --paced --setting bus --out b >bus 2>&1 & run=$!\n"
            "for i in $(seq 1000); do mosquitto_pub -p 21621 -t harrow/plc/controller -m ready\n"
            "mosquitto_pub -p 21621 -t harrow/plc/from/upper_light -m true\n" ISODYNE_PROGRAM
            " export csv b upper_light 2>/dev/null | grep -q true && break; sleep 0.1; done\n"
            "kill -INT $run; wait $run; status=$?\n"
            "for i in $(seq 1000); do grep -q 'bench ended' heard && break; sleep 0.05; done; kill $sub; exit $status",
            folder.path());
  const std::string heard = slurp(folder / "heard");
  INFO(slurp(folder / "bus") << heard);
  CHECK((bus.status == 1 || bus.status == 3));  // green at shut gates is against a rule
  CHECK_THAT(heard, Catch::Contains("harrow/plc/bench ready") && Catch::Contains("harrow/plc/bench running") &&
                        Catch::Contains("harrow/plc/to/upper_shut true") &&
                        Catch::Contains("harrow/plc/to/request none") && Catch::Contains("harrow/plc/bench ended"));
  auto recording = record::Recording::open(folder / "b/recording.h5");
  REQUIRE(recording);
  CHECK((*recording)->signal("upper_light")->back() == 1);
}

TEST_CASE("A loopback walks over a device on Modbus, and finds the wire that is not there") {
  TestFolder folder;
  folder.write("b.dyne", R"(
bench Box { step 10 ms
  sensor level { of 4 m    range 0 m .. 10 m  as 4 mA .. 20 mA  counts 0 .. 32000  word 16 bit  every 10 ms }
  sensor wet   { of true   every 10 ms }
  sensor dry   { of false  every 10 ms }
  actuator gate : % { range 0 % .. 100 %  as 4 mA .. 20 mA  counts 0 .. 32000  word 16 bit }
  actuator lamp : bool
  actuator horn : bool
  controller box {
    every 10 ms
    reads level, wet, dry
    writes gate, lamp, horn
    setting device = modbus client "127.0.0.1:21702" map "map.csv"
  }
}
cables plug {
  level -> gate
  wet   -> lamp
  dry   -> horn
}
)");
  // The device copies holding registers to input registers and coils to discrete inputs, place by place. The level is
  // sent in metres and read in tenths of the range, so the wire is straight; the horn is read where nothing is sent.
  folder.write("map.csv",
               "channel,table,address,type,words,unit,factor\n"
               "level,holding,0,float32,high first,m,\nwet,coil,0,bool,,,\ndry,coil,1,bool,,,\n"
               "gate,input,0,float32,high first,1,0.1\nlamp,discrete,0,bool,,,\nhorn,discrete,5,bool,,,\n");
  const auto end = modbus_echo_server("127.0.0.1", 21702);
  const Output out = run_isodyne("io loopback b.dyne plug --setting device", folder.path());
  end();
  INFO(out.out << out.err);
  CHECK(out.status == 1);
  CHECK_THAT(out.out, Catch::Contains("2 of 3 wires good") && Catch::Contains("over controller box, setting device"));
}

TEST_CASE("A register map with mistakes is refused as a whole, each of them named") {
  TestFolder folder;
  folder.write("b.dyne", R"(
bench Box { step 10 ms
  sensor level { of 4 m  range 0 m .. 10 m  every 10 ms }
  actuator gate : %
  actuator lamp : bool
  controller box { every 10 ms  reads level  writes gate, lamp  setting device = modbus server "127.0.0.1:0" map "map.csv" }
}
)");
  folder.write(
      "map.csv",
      "\xEF\xBB\xBF"
      "Channel;Table;Address;Type;Words;Unit;Factor\n"
      "levl;input;0;float32;;;\nlevel;inputs;0;float32;;;\nlevel;input;70000;float32;;;\nlevel;input;0;float33;;;\n"
      "level;input;0;int16;;kg;\nlevel;input;0;int16;middle;m;\nlevel;input;0;int16;;m;0\n"
      "level;input;0;int32;low first;mm;0,5\ngate;input;1;int16;;;\nlamp;holding;3;bool;;;\ngate;coil;1;bool;;;\n");
  const Output out = run_isodyne("run b.dyne --for '1 s' --paced --out r", folder.path());
  INFO(out.err);
  CHECK(out.status == 3);
  for (const char* line :
       {"map.csv:2: the controller exchanges no `levl`; did you mean `level`?", "map.csv:3: `inputs` is no table",
        "map.csv:4: `70000` is no address: 0 to 65535", "map.csv:5: `float33` is no type", "map.csv:6: `kg` is no unit",
        "map.csv:7: words are `high first` or `low first`, not `middle`", "map.csv:8: `0` is no factor",
        "map.csv:10: input 1 holds `level` already", "map.csv:11: a place in `holding` cannot be bool",
        "map.csv:12: `gate` is a value in %, not a bit"})
    CHECK_THAT(out.err, Catch::Contains(line));
  const Output checked = run_isodyne("check b.dyne", folder.path());
  CHECK(checked.status == 2);
  CHECK_THAT(checked.err, Catch::Contains("setting `device` of `box`: cannot use the register map map.csv"));
  folder.write("map.csv", "channel,table,address,type\nlevel,input,0,float32\n");
  const Output lacking = run_isodyne("run b.dyne --for '1 s' --paced --out q", folder.path());
  CHECK_THAT(lacking.err, Catch::Contains("no register for `gate`, `lamp`, which the controller writes"));
}

TEST_CASE("A setting is for the controllers that have it, or for the one that is named") {
  const TestFolder folder;
  const char* const logic =
      "model Even {\n  output memory said : int = 0\n  every 10 ms { said := 2 }\n}\n"
      "model Odd {\n  output memory said : int = 0\n  every 10 ms { said := 1 }\n}\n";
  folder.write("b.dyne",
               std::string(logic) +
                   "bench B { step 10 ms\n"
                   "  controller one { every 10 ms  writes said : int  setting odd = part Odd  setting even = part "
                   "Even }\n"
                   "  controller two { every 10 ms  writes said : int  setting only = part Odd }\n"
                   "  controller three { every 10 ms  writes said : int  setting even = part Even  setting odd = "
                   "part Odd }\n}\n");
  const auto said = [&](const std::string& setting) {
    const std::string words = setting.empty() ? "" : " --setting '" + setting + "'";
    const Output o = run_isodyne("run b.dyne --for '50 ms' --no-report --out r" + words, folder.path());
    INFO(o.err);
    REQUIRE(o.status == 0);
    const std::string csv = run_isodyne("export csv r one.said two.said three.said", folder.path()).out;
    std::filesystem::remove_all(folder / "r");
    const std::string last = csv.substr(csv.rfind('\n', csv.size() - 2) + 1);
    return last.substr(last.find(',') + 1, 5);
  };
  CHECK(said("") == "1,1,2");
  CHECK(said("even") == "2,1,2");
  CHECK(said("odd") == "1,1,1");
  CHECK(said("one=even") == "2,1,2");
  CHECK(said("odd, three=even") == "1,1,2");
  CHECK(said("three=odd,even") == "2,1,1");
  const auto why = [&](const std::string& setting) {
    return run_isodyne("run b.dyne --for '50 ms' --no-report --out r --setting '" + setting + "'", folder.path()).err;
  };
  CHECK_THAT(why("evne"), Catch::Contains("no controller has a setting `evne`") && Catch::Contains("odd, even, only"));
  CHECK_THAT(why("two=even"),
             Catch::Contains("controller `two` has no setting `even`") && Catch::Contains("it has only"));
  CHECK_THAT(why("four=even"), Catch::Contains("there is no controller `four`") && Catch::Contains("one, two, three"));
}
