# Writes OUT, if it would be another: the version of the checkout in SOURCE, by its tag ("0.2.0", or "0.2.0-5-g1a2b3c4" five
# commits later; "-changed" where files are); FALLBACK where there is no tag, or no git.
set(version "${FALLBACK}")
find_program(git git)
if(git AND EXISTS "${SOURCE}/.git")
  execute_process(COMMAND ${git} -C "${SOURCE}" describe --tags --match "v[0-9]*" --dirty=-changed
                  OUTPUT_VARIABLE described OUTPUT_STRIP_TRAILING_WHITESPACE ERROR_QUIET RESULT_VARIABLE failed)
  if(NOT failed AND described)
    string(REGEX REPLACE "^v" "" version "${described}")
  endif()
endif()
set(text "#include \"isodyne/core/version.h\"\n\nnamespace isodyne {\nconst char* const kVersion = \"${version}\";\n}\n")
set(before "")
if(EXISTS "${OUT}")
  file(READ "${OUT}" before)
endif()
if(NOT before STREQUAL text)
  file(WRITE "${OUT}" "${text}")
endif()
