# kwind_generate(TARGET FILE): compiles a .kw file with each build that finds it changed and lets TARGET
# include the headers: `protocol harbour 1` makes harbour.h, and harbour/helm.h for `message Helm`.
# Headers whose text stays the same keep their time, so that only what includes a changed one is rebuilt.
# The generator runs on the machine that builds: a cross-compiling build sets KWIND_CODEGEN to a kwind_codegen of
# that machine, or finds one in its PATH.
function(kwind_generate target file)
  _kwind_protocol(${file} path name)
  set(dir ${CMAKE_CURRENT_BINARY_DIR}/${target}_kw)
  _kwind_headers(${path} ${dir} ${name} headers sources)
  _kwind_generator(generator)
  # What is declared decides which headers there are.
  set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS ${sources})
  add_custom_command(OUTPUT ${dir}/${name}.h
    COMMAND ${generator} ${path} ${dir}
    COMMAND ${CMAKE_COMMAND} -E touch ${dir}/${name}.h.stamp
    DEPENDS ${sources} ${generator}
    BYPRODUCTS ${headers} ${dir}/${name}.h.stamp
    COMMENT "Compiling ${file}" VERBATIM)
  target_sources(${target} PRIVATE ${dir}/${name}.h)
  target_include_directories(${target} PRIVATE ${dir})
endfunction()

# kwind_generate_c(TARGET FILE): the same with the one header for C, harbour_c.h, for kwind/c/kwind.h.
function(kwind_generate_c target file)
  _kwind_protocol(${file} path name)
  string(REGEX REPLACE "([a-z0-9])([A-Z])" "\\1_\\2" header ${name})
  string(TOLOWER ${header}_c header)
  set(dir ${CMAKE_CURRENT_BINARY_DIR}/${target}_c_kw)
  _kwind_headers(${path} ${dir} ${name} headers sources)
  _kwind_generator(generator)
  add_custom_command(OUTPUT ${dir}/${header}.h
    COMMAND ${generator} --c ${path} ${dir}
    COMMAND ${CMAKE_COMMAND} -E touch ${dir}/${header}.h.stamp
    DEPENDS ${sources} ${generator}
    BYPRODUCTS ${dir}/${header}.h.stamp
    COMMENT "Compiling ${file} for C" VERBATIM)
  target_sources(${target} PRIVATE ${dir}/${header}.h)
  target_include_directories(${target} PRIVATE ${dir})
endfunction()

# The absolute path of a description, and the name of its protocol.
function(_kwind_protocol file path_out name_out)
  get_filename_component(path ${file} ABSOLUTE)
  if(NOT EXISTS ${path})
    message(FATAL_ERROR "kwind_generate: there is no file ${path}")
  endif()
  file(STRINGS ${path} line REGEX "^protocol " LIMIT_COUNT 1)
  string(REGEX REPLACE "^protocol +([a-z][A-Za-z0-9_]*).*" "\\1" name "${line}")
  if(name STREQUAL "")
    message(FATAL_ERROR "${path}: no line `protocol NAME VERSION` found")
  endif()
  set(${path_out} ${path} PARENT_SCOPE)
  set(${name_out} ${name} PARENT_SCOPE)
endfunction()

# The generator: a target of this build, of an installed package, or a program of the build machine.
function(_kwind_generator out)
  if(CMAKE_CROSSCOMPILING OR KWIND_CODEGEN)
    find_program(KWIND_CODEGEN NAMES kwind_codegen PATH_SUFFIXES kwind NO_CMAKE_FIND_ROOT_PATH)
    if(NOT KWIND_CODEGEN)
      message(FATAL_ERROR "the generator must run on the machine that builds: "
        "set KWIND_CODEGEN to the kwind_codegen of a Kestrel Wind built for it")
    endif()
    set(${out} ${KWIND_CODEGEN} PARENT_SCOPE)
  elseif(TARGET kwind_codegen)
    set(${out} kwind_codegen PARENT_SCOPE)
  else()
    set(${out} kwind::codegen PARENT_SCOPE)
  endif()
endfunction()

# The headers that the declarations of a file and of those it includes will have.
function(_kwind_headers path dir name headers_out sources_out)
  set(headers "")
  set(waiting ${path})
  set(sources "")
  while(waiting)
    list(POP_FRONT waiting source)
    if(source IN_LIST sources OR NOT EXISTS ${source})
      continue()
    endif()
    list(APPEND sources ${source})
    get_filename_component(folder ${source} DIRECTORY)
    file(STRINGS ${source} lines
      REGEX "^[ \t]*((enum|flags|record|message|request|entity)[ \t]+[A-Z]|include[ \t]+\")")
    foreach(line IN LISTS lines)
      if(line MATCHES "^[ \t]*include[ \t]+\"([^\"]+)\"")
        list(APPEND waiting ${folder}/${CMAKE_MATCH_1})
      elseif(line MATCHES "^[ \t]*[a-z]+[ \t]+([A-Za-z0-9_]+)")
        string(REGEX REPLACE "([a-z0-9])([A-Z])" "\\1_\\2" snake ${CMAKE_MATCH_1})
        string(TOLOWER ${snake} snake)
        list(APPEND headers ${dir}/${name}/${snake}.h)
      endif()
    endforeach()
  endwhile()
  list(REMOVE_DUPLICATES headers)
  set(${headers_out} ${headers} PARENT_SCOPE)
  set(${sources_out} ${sources} PARENT_SCOPE)
endfunction()
