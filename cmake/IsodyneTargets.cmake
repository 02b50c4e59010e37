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
  # Several files are compiled as one: what a name hides may be in another of them, and each looks like a header.
  target_compile_options(isodyne_options INTERFACE -Wno-shadow $<$<CXX_COMPILER_ID:GNU>:-Wno-subobject-linkage>)
endif()
if(ISODYNE_WARNINGS_AS_ERRORS)
  target_compile_options(isodyne_options INTERFACE -Werror)
endif()
target_include_directories(isodyne_options INTERFACE ${CMAKE_SOURCE_DIR}/src ${CMAKE_SOURCE_DIR}/include)
target_compile_definitions(isodyne_options INTERFACE ISODYNE_VERSION="${PROJECT_VERSION}")

# isodyne_layer(NAME DEPENDS …): every source in src/isodyne/NAME as the library isodyne_NAME.
function(isodyne_layer name)
  cmake_parse_arguments(arg "" "" "DEPENDS" ${ARGN})
  file(GLOB_RECURSE sources CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/src/isodyne/${name}/*.cpp)
  add_library(isodyne_${name} STATIC ${sources})
  target_link_libraries(isodyne_${name} PUBLIC ${arg_DEPENDS} PRIVATE isodyne_options)
  target_include_directories(isodyne_${name} PUBLIC ${CMAKE_SOURCE_DIR}/src ${CMAKE_SOURCE_DIR}/include)
endfunction()

# isodyne_program(NAME FOLDER DEPENDS …): every source in FOLDER as one program.
function(isodyne_program name folder)
  cmake_parse_arguments(arg "" "" "DEPENDS" ${ARGN})
  file(GLOB sources CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/${folder}/*.cpp)
  add_executable(${name} ${sources})
  target_link_libraries(${name} PRIVATE ${arg_DEPENDS} isodyne_options)
endfunction()
