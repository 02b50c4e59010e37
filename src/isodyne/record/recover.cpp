#include "isodyne/record/recover.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include "isodyne/record/recording.h"

namespace isodyne::record {

namespace {

/// The rows [first, first + rows) of a group; false, and the name in `lost`, where one cannot be read.
bool fill(const Recording& from, const GroupHead& group, const Instants& times, std::size_t first, std::size_t rows,
          Block& block, std::vector<std::string>& lost) {
  for (std::size_t i = 0; i < rows; ++i) block.times[i] = times[first + i];
  for (std::size_t c = 0; c < group.columns.size(); ++c) {
    if (!from.read(group.columns[c].name, first, rows, block.column(c))) lost.push_back(group.columns[c].name);
  }
  block.rows.store(rows);
  return lost.empty();
}

Status write_all(const Recording& from, RecordingFile& to, const std::string& ending, std::vector<std::string>& lost) {
  std::vector<std::unique_ptr<Block>> rest;
  for (std::size_t g = 0; g < to.head().groups.size(); ++g) {
    const GroupHead& group = to.head().groups[g];
    const Instants& times = from.times_in(g);
    const std::size_t room = group.chunk_rows();
    rest.push_back(std::make_unique<Block>(room, group.columns.size()));
    for (std::size_t first = 0; first < times.size(); first += room) {
      const std::size_t rows = std::min(room, times.size() - first);
      if (!fill(from, group, times, first, rows, *rest.back(), lost)) return Failure{"cannot read", lost.front(), ""};
      if (rows == room) to.chunk(g, *rest.back());
      if (rows == room) rest.back()->rows.store(0);
    }
  }
  std::vector<EventRow> events;
  for (const RecordedEvent& e : from.events())
    events.push_back(event_row(e.at.count(), e.value, e.kind, e.subject, e.text));
  to.events(events);
  std::vector<Block*> blocks;
  for (const auto& b : rest) blocks.push_back(b.get());
  return to.close(ending.empty() ? from.ending() : ending, blocks);
}

}  // namespace

Result<Recovered> recover(const std::string& file, const std::string& ending) {
  auto from = Recording::open(file);
  if (!from) return from.failure();
  Recovered r;
  r.instants = (*from)->times().size();
  r.signals = (*from)->names().size();
  r.events = (*from)->events().size();
  if (r.instants > 0) r.until = Time{(*from)->times().back()};
  r.was_whole = !(*from)->unfinished();
  if (r.was_whole) return r;
  if ((*from)->growing()) return Failure{"cannot recover", file, "the run still writes it"};
  const std::string fresh = file + ".new";
  std::error_code none;
  std::filesystem::remove(fresh, none);
  auto to = RecordingFile::create(fresh, (*from)->head());
  if (!to) return to.failure();
  const Status written = write_all(**from, **to, ending, r.lost);
  if (!written) {
    to->reset();
    std::filesystem::remove(fresh, none);
    std::filesystem::remove(tail_of(fresh), none);
    if (!r.lost.empty()) return r;
    return written.failure();
  }
  from->reset();
  if (std::rename(fresh.c_str(), file.c_str()) != 0) return Failure{"cannot replace", file, std::strerror(errno)};
  std::filesystem::remove(tail_of(file), none);
  return r;
}

}  // namespace isodyne::record
