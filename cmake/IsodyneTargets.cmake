# One helper per kind of target; every target lists its dependencies explicitly.

add_library(isodyne_options INTERFACE)
target_compile_options(isodyne_options INTERFACE
  -Wall -Wextra -Wpedantic -Wshadow -Wconversion -Wno-sign-conversion -Wnon-virtual-dtor -Wold-style-cast
  -Woverloaded-virtual -Wcast-align -Wformat=2 -Wimplicit-fallthrough
  # The results must not depend on which multiplications the compiler fuses.
  -ffp-contract=off)
# What people run opens files of others: overflows end it instead of going on.
if(CMAKE_BUILD_TYPE STREQUAL "Release")
  target_compile_options(isodyne_options INTERFACE -fstack-protector-strong -fPIE)
  target_compile_definitions(isodyne_options INTERFACE _FORTIFY_SOURCE=2 _GLIBCXX_ASSERTIONS)
  target_link_options(isodyne_options INTERFACE -pie -Wl,-z,relro -Wl,-z,now)
endif()
if(CMAKE_CXX_COMPILER_ID STREQUAL "GNU")
  # gcc 12 warns about std::string's own operator+ when it optimises (gcc bug 105651).
  target_compile_options(isodyne_options INTERFACE -Wno-restrict)
endif()
if(CMAKE_UNITY_BUILD)
  # Several files are compiled as one: what a name hides may be in another of them, and each looks like a header. (clang
  # looks at variables only, whose names differ anyway.)
  target_compile_options(isodyne_options INTERFACE $<$<CXX_COMPILER_ID:GNU>:-Wno-shadow;-Wno-subobject-linkage>)
endif()
if(ISODYNE_WARNINGS_AS_ERRORS)
  target_compile_options(isodyne_options INTERFACE -Werror)
endif()
target_include_directories(isodyne_options INTERFACE ${CMAKE_SOURCE_DIR}/src ${CMAKE_SOURCE_DIR}/include)

# isodyne_layers(NAME "LIBRARY …" …): a library isodyne_LAYER of each layer in src/isodyne/layers.txt, with the libraries
# from outside that are named here.
function(isodyne_layers)
  set(list ${CMAKE_SOURCE_DIR}/src/isodyne/layers.txt)
  set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS ${list})
  while(ARGN)
    list(POP_FRONT ARGN layer libraries)
    separate_arguments(outside_${layer} UNIX_COMMAND "${libraries}")
  endwhile()
  file(STRINGS ${list} lines REGEX "^[a-z]")
  foreach(line ${lines})
    separate_arguments(words UNIX_COMMAND "${line}")
    list(POP_FRONT words layer)
    list(TRANSFORM words PREPEND isodyne_)
    file(GLOB_RECURSE sources CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/src/isodyne/${layer}/*.cpp)
    file(GLOB_RECURSE headers CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/src/isodyne/${layer}/*.h)
    add_library(isodyne_${layer} STATIC ${sources})
    target_sources(isodyne_${layer} PUBLIC FILE_SET HEADERS BASE_DIRS ${CMAKE_SOURCE_DIR}/src FILES ${headers})
    target_link_libraries(isodyne_${layer} PUBLIC ${words} ${outside_${layer}} PRIVATE isodyne_options)
    target_include_directories(isodyne_${layer} PUBLIC ${CMAKE_SOURCE_DIR}/include)
  endforeach()
endfunction()

# isodyne_program(NAME FOLDER DEPENDS …): every source in FOLDER as one program.
function(isodyne_program name folder)
  cmake_parse_arguments(arg "" "" "DEPENDS" ${ARGN})
  file(GLOB sources CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/${folder}/*.cpp)
  add_executable(${name} ${sources})
  target_link_libraries(${name} PRIVATE ${arg_DEPENDS} isodyne_options)
endfunction()
