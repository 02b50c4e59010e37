# A C++ source that holds texts of files: cmake -DOUT=… -DNAMESPACE=… "-DNAMES=a|b" "-DFILES=x|y" -P EmbedText.cmake
set(text "// Made by cmake/EmbedText.cmake.\nnamespace ${NAMESPACE} {\n")
string(REPLACE "|" ";" NAMES "${NAMES}")
string(REPLACE "|" ";" FILES "${FILES}")
foreach(name file IN ZIP_LISTS NAMES FILES)
  file(READ "${file}" content)
  # Compilers bound the length of one literal, so each line is one.
  string(REPLACE "\\" "\\\\" content "${content}")
  string(REPLACE "\"" "\\\"" content "${content}")
  string(REPLACE "\n" "\\n\"\n    \"" content "${content}")
  string(APPEND text "extern const char* const ${name};\nconst char* const ${name} =\n    \"${content}\";\n")
endforeach()
string(APPEND text "}  // namespace ${NAMESPACE}\n")
file(WRITE "${OUT}" "${text}")
