#pragma once
// Small helpers for the words and numbers people read.

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace isodyne {

/// Number of code points in UTF-8 text (a malformed byte counts as one): columns in messages and tables.
std::size_t display_width(std::string_view utf8);
/// As much of the text as fits into so many columns; whole code points.
std::string_view first_columns(std::string_view utf8, std::size_t columns);

/// Each of the names in at most so many columns, cut where that leaves them told apart: in front, between, or behind.
std::vector<std::string> shortened_apart(const std::vector<std::string>& names, std::size_t columns);

/// Text of others, fit to be shown anywhere: what is no UTF-8, control characters but line ends and tabs, and marks
/// that turn the direction of writing become U+FFFD.
std::string printable(std::string_view text);
/// Whether there is anything that printable() would replace, and where.
std::optional<std::size_t> not_printable(std::string_view text);

/// Six significant digits, no trailing zeros: "0.62", "1e-09", "3.14159"; up to 10^12 written out: "1234567".
std::string format_number(double value);

/// The shortest text that reads back as the same double.
std::string format_exact(double value);

/// Number of single-character edits (insert, delete, replace, swap of neighbours) from a to b.
int edit_distance(std::string_view a, std::string_view b);

/// The candidate closest to `word`, if it is close enough to be what was meant. A courtesy: who asks very often, as a
/// text of ten thousand wrong names does, gets nothing any more until renew_suggestions(), of the same thread.
std::optional<std::string> closest(std::string_view word, const std::vector<std::string>& candidates);

/// The same as people are told: "did you mean `level`?"
std::optional<std::string> did_you_mean(std::string_view word, const std::vector<std::string>& candidates);

void renew_suggestions();

/// FNV-1a, 64 bits (Fowler, Noll, Vo): for identities of layouts and streams, not for security.
std::uint64_t fnv1a(std::string_view bytes, std::uint64_t hash = 0xcbf29ce484222325ULL);

/// Line breaks and runs of blanks become one blank: for text from a source shown in a table.
std::string one_line(std::string_view text);

/// Without blanks before and behind it.
std::string trimmed(const std::string& text);

/// Whether a name fits a pattern, in which * stands for anything.
bool matches(std::string_view pattern, std::string_view name);

/// ASCII letters in lower case.
std::string lower_case(std::string_view text);

bool contains(const std::vector<std::string>& list, const std::string& name);
/// "a, b, c"; `none` if there is nothing.
std::string listed(const std::vector<std::string>& all, std::string_view none = {}, std::string_view by = ", ");

/// One more of a list: with what separates it from those before.
void list_on(std::string& list, std::string_view more, std::string_view by = ", ");

/// Whether `name` is an element of a vector or an array: `level[2]` of `level`.
bool is_element_of(std::string_view name, std::string_view vector);

/// "1 fault", "3 faults".
std::string counted(std::size_t count, std::string_view noun);

}  // namespace isodyne
