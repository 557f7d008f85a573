# kwind_generate(TARGET FILE): compiles a .kw file with each build that finds it changed and lets TARGET
# include the header, which is named after the protocol: `protocol harbour 1` makes harbour.h.
function(kwind_generate target file)
  get_filename_component(path ${file} ABSOLUTE)
  file(STRINGS ${path} line REGEX "^protocol " LIMIT_COUNT 1)
  string(REGEX REPLACE "^protocol +([a-z][A-Za-z0-9_]*).*" "\\1" name "${line}")
  if(name STREQUAL "")
    message(FATAL_ERROR "${path}: no line `protocol NAME VERSION` found")
  endif()
  set(dir ${CMAKE_CURRENT_BINARY_DIR}/${target}_kw)
  add_custom_command(OUTPUT ${dir}/${name}.h
    COMMAND kwind_codegen ${path} ${dir}
    # The header keeps its time when its text is the same; the stamp tells the build it is done.
    COMMAND ${CMAKE_COMMAND} -E touch ${dir}/${name}.h.stamp
    DEPENDS ${path} kwind_codegen
    BYPRODUCTS ${dir}/${name}.h.stamp
    COMMENT "Compiling ${file}" VERBATIM)
  target_sources(${target} PRIVATE ${dir}/${name}.h)
  target_include_directories(${target} PRIVATE ${dir})
endfunction()
