#pragma once
// Colours for editors, made from the same tables of words that the lexer and the checker use.

#include <string>

namespace isodyne::exchange {

/// A TextMate grammar (JSON), which many editors read.
std::string textmate_grammar();
/// A syntax file for Vim.
std::string vim_syntax();

}  // namespace isodyne::exchange
