#pragma once
// Work of many runs that somebody ends by a key, or by a signal: what is under way comes to its end.

namespace isodyne::app {

/// From here on SIGINT and SIGTERM are noted, and end nothing by themselves.
void note_interruptions();
bool interrupted();

}  // namespace isodyne::app
