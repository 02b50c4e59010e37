#include "isodyne/session/cluster.h"

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <set>
#include <sstream>
#include <thread>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/process.h"
#include "isodyne/core/text.h"

namespace isodyne::session {

namespace fs = std::filesystem;
using std::chrono::milliseconds;
using std::chrono::steady_clock;

namespace {

/// As a shell takes it for one word, whatever is in it.
std::string quoted_word(const std::string& word) {
  if (word == "$LINE" || word == "$BOOK") return "\"" + word + "\"";
  std::string text = "'";
  for (const char c : word) text += c == '\'' ? "'\\''" : std::string(1, c);
  return text + "'";
}

struct SlurmAnswer {
  int status = 0;
  std::string text;
};

/// One of Slurm's programs.
Result<SlurmAnswer> ask(const std::string& folder, std::vector<std::string> words) {
  const std::string program = on_path(words[0]), messages = (fs::path(folder) / (words[0] + ".txt")).string();
  if (program.empty())
    return Failure{fmt::format("`{}` is not here", words[0]), "",
                   "campaigns on a cluster need the commands of Slurm on this machine", Failure::Kind::wrong_input};
  const std::string name = words[0];
  words[0] = program;
  constexpr auto kPatience = std::chrono::seconds(120);
  static const std::atomic<bool> never{false};
  const auto status = run_program(name, words, messages, kPatience, never);
  if (!status) return status.failure();
  auto text = read_file(messages);
  return SlurmAnswer{*status, text ? std::move(*text) : std::string()};
}

/// Which tasks of a job are pending, running or about to end.
Result<std::set<std::size_t>> active_tasks(const std::string& folder, const std::string& job) {
  // Of our name: numbers come again, and then it is somebody else's.
  const auto name = read_file((fs::path(folder) / "name").string());
  const auto said = ask(folder, {"squeue", "--noheader", "--array", "--jobs=" + job, "--format=%K",
                                 "--name=" + (name ? one_line(*name) : std::string("isodyne"))});
  if (!said) return said.failure();
  std::set<std::size_t> tasks;
  if (said->status != 0) {
    if (said->text.find("Invalid job id") != std::string::npos) return tasks;  // long over
    return Failure{"Slurm does not say how far the job is", job, one_line(said->text)};
  }
  std::istringstream lines(said->text);
  for (std::size_t task = 0; lines >> task;) tasks.insert(task);
  return tasks;
}

/// What was cancelled takes a moment to be gone.
void await_end(const std::string& folder, const std::string& job) {
  for (int round = 0; round < 100; ++round) {
    const auto active = active_tasks(folder, job);
    if (active && active->empty()) return;
    std::this_thread::sleep_for(milliseconds(200));
  }
}

}  // namespace

std::string job_in(const std::string& folder) {
  const auto text = read_file((fs::path(folder) / "job").string());
  const std::string job = text ? one_line(*text) : "";
  return !job.empty() && job.find_first_not_of("0123456789") == std::string::npos ? job : "";
}

Status submit(const ClusterPlan& plan) {
  std::error_code error;
  fs::create_directories(plan.folder, error);
  if (error) return Failure{"cannot create the folder", plan.folder, error.message()};
  const fs::path folder = fs::absolute(plan.folder);
  std::string lines, command, script, name = plan.name + "\n";
  for (const std::string& l : plan.lines) lines += l + "\n";
  for (const std::string& word : plan.command) command += (command.empty() ? "" : " ") + quoted_word(word);
  // A case that is broken, or could not be run, is an answer; only what went wrong with the task itself is its failure.
  script = fmt::format(
      "#!/bin/sh\ncd {0} || exit 9\nBOOK=$SLURM_ARRAY_TASK_ID.sqlite\nLINE=$(sed -n \"${{SLURM_ARRAY_TASK_ID}}p\" "
      "tasks.txt)\n{1}\nstatus=$?\n"
      "case $status in 0|1|3) exit 0;; esac\nexit $status\n",
      quoted_word(folder.string()), command);
  for (const auto& [file, text] :
       {std::pair{"tasks.txt", &lines}, std::pair{"run.sh", &script}, std::pair{"name", &name}}) {
    if (const Status written = write_file((folder / file).string(), *text); !written) return written;
  }
  std::vector<std::string> words{"sbatch",
                                 "--parsable",
                                 fmt::format("--array=1-{}", plan.lines.size()),
                                 fmt::format("--cpus-per-task={}", plan.cores),
                                 "--job-name=" + plan.name,
                                 "--output=" + (folder / "%a.txt").string()};
  words.insert(words.end(), plan.options.begin(), plan.options.end());
  words.push_back((folder / "run.sh").string());
  const auto said = ask(folder.string(), words);
  if (!said) return said.failure();
  const std::string job = said->text.substr(0, said->text.find_first_not_of("0123456789"));
  if (said->status != 0 || job.empty()) return Failure{"Slurm did not take the job", "", one_line(said->text)};
  return write_file((folder / "job").string(), job + "\n");
}

Status wait_for_job(const std::string& folder, std::size_t tasks, const std::function<void(std::size_t)>& over,
                    const std::function<bool()>& go_on) {
  const std::string job = job_in(folder);
  std::set<std::size_t> known_over;
  const auto begin = steady_clock::now();
  constexpr int kMostTrouble = 30;
  for (int trouble = 0;;) {
    const auto active = active_tasks(folder, job);
    if (!active) {  // its controller may be restarted
      if (active.failure().kind == Failure::Kind::wrong_input || ++trouble > kMostTrouble) return active.failure();
      std::this_thread::sleep_for(std::chrono::seconds(1));
      continue;
    }
    trouble = 0;
    for (std::size_t t = 1; t <= tasks; ++t) {
      if (!active->contains(t) && known_over.insert(t).second) over(t);
    }
    if (active->empty()) return Done{};
    // The longer it takes the less often Slurm is asked.
    const auto passed = std::chrono::duration_cast<milliseconds>(steady_clock::now() - begin);
    const auto until = steady_clock::now() + std::clamp(passed / 50, milliseconds(250), milliseconds(5000));
    while (steady_clock::now() < until) {
      if (!go_on()) {
        const auto cancelled = ask(folder, {"scancel", job});
        if (!cancelled) return cancelled.failure();
        await_end(folder, job);
        for (std::size_t t = 1; t <= tasks; ++t) {
          if (known_over.insert(t).second) over(t);
        }
        return Done{};
      }
      std::this_thread::sleep_for(milliseconds(50));
    }
  }
}

}  // namespace isodyne::session
