# What `cmake --install` puts where, for users of the library:
#   libkwind.so.0, libkwind.a   every area that a game links; the same objects
#   libkwind_json.a and so on   components that bring a library of their own
#   the tool, the generator, headers, and files for find_package(kestrel_wind) and pkg-config
# Nothing installed holds an absolute path: the prefix may be moved.
include(GNUInstallDirs)
include(CMakePackageConfigHelpers)

set(objects "")
foreach(area IN LISTS KWIND_AREAS)
  list(APPEND objects $<TARGET_OBJECTS:kwind_${area}>)
endforeach()

# kwind_library(TARGET STATIC|SHARED): the library of all areas.
function(kwind_library target form)
  add_library(${target} ${form} ${objects})
  set_target_properties(${target} PROPERTIES OUTPUT_NAME kwind LINKER_LANGUAGE CXX
    ARCHIVE_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/library LIBRARY_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/library)
  target_compile_features(${target} INTERFACE cxx_std_20)
  target_include_directories(${target} INTERFACE $<INSTALL_INTERFACE:${CMAKE_INSTALL_INCLUDEDIR}>)
  # Headers need tl::expected, and fmt's and Eigen's where generated code uses them; sodium is linked and no more.
  target_link_libraries(${target} PRIVATE PkgConfig::sodium Threads::Threads $<$<BOOL:${WIN32}>:ws2_32>
    PUBLIC fmt::fmt tl::expected Eigen3::Eigen)
endfunction()

kwind_library(kwind_static STATIC)
set_target_properties(kwind_static PROPERTIES EXPORT_NAME static)
target_compile_definitions(kwind_static INTERFACE KWIND_STATIC)
set(installed kwind_static kwind_codegen)
if(KWIND_SHARED)
  kwind_library(kwind_shared SHARED)
  set_target_properties(kwind_shared PROPERTIES EXPORT_NAME shared VERSION ${PROJECT_VERSION} SOVERSION 0)
  if(UNIX AND NOT APPLE)
    target_link_options(kwind_shared PRIVATE LINKER:--version-script=${PROJECT_SOURCE_DIR}/cmake/libkwind.map
      LINKER:--no-undefined LINKER:--as-needed)
    set_target_properties(kwind_shared PROPERTIES LINK_DEPENDS ${PROJECT_SOURCE_DIR}/cmake/libkwind.map)
  endif()
  list(APPEND installed kwind_shared)
endif()
set_target_properties(kwind_codegen PROPERTIES EXPORT_NAME codegen)

# Each component is an archive of its own beside the library, and brings the library that it needs.
set(KWIND_COMPONENTS "")
if(KWIND_TOOL)
  set(KWIND_COMPONENTS json ticket capture)
endif()
foreach(component IN LISTS KWIND_COMPONENTS)
  set(target kwind_component_${component})
  add_library(${target} STATIC $<TARGET_OBJECTS:kwind_${component}>)
  set_target_properties(${target} PROPERTIES OUTPUT_NAME kwind_${component} EXPORT_NAME ${component}
    LINKER_LANGUAGE CXX ARCHIVE_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/library)
  # That it needs kwind::kwind stands in the package's configuration: here the name is that of the build.
  target_link_libraries(${target} INTERFACE nlohmann_json::nlohmann_json
    $<LINK_ONLY:PkgConfig::sodium>)
  list(APPEND installed ${target})
endforeach()
if(KWIND_WEB)
  add_library(kwind_component_web STATIC $<TARGET_OBJECTS:kwind_web>)
  set_target_properties(kwind_component_web PROPERTIES OUTPUT_NAME kwind_web EXPORT_NAME web
    LINKER_LANGUAGE CXX ARCHIVE_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/library)
  target_link_libraries(kwind_component_web INTERFACE OpenSSL::SSL)
  list(APPEND installed kwind_component_web)
  list(APPEND KWIND_COMPONENTS web)
endif()
if(KWIND_WEB_TRANSPORT)
  add_library(kwind_component_web_transport STATIC $<TARGET_OBJECTS:kwind_web_transport>)
  set_target_properties(kwind_component_web_transport PROPERTIES OUTPUT_NAME kwind_web_transport
    EXPORT_NAME web_transport LINKER_LANGUAGE CXX ARCHIVE_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/library)
  target_link_libraries(kwind_component_web_transport INTERFACE PkgConfig::quic)
  list(APPEND installed kwind_component_web_transport)
  list(APPEND KWIND_COMPONENTS web_transport)
endif()

# All that is installed but the tool.
add_custom_target(kwind_installed DEPENDS ${installed})
install(TARGETS ${installed} EXPORT kestrel_wind COMPONENT dev
  RUNTIME DESTINATION ${CMAKE_INSTALL_LIBEXECDIR}/kwind
  ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR}
  LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT lib NAMELINK_COMPONENT dev)
install(DIRECTORY include/kwind DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT dev
  FILES_MATCHING PATTERN "*.h" PATTERN "budget" EXCLUDE)

list(JOIN KWIND_COMPONENTS " " KWIND_COMPONENT_NAMES)
set(package_dir ${CMAKE_INSTALL_LIBDIR}/cmake/kestrel_wind)
install(EXPORT kestrel_wind NAMESPACE kwind:: FILE kestrel_wind-targets.cmake DESTINATION ${package_dir}
  COMPONENT dev)
configure_package_config_file(cmake/kestrel_wind-config.cmake.in kestrel_wind-config.cmake
  INSTALL_DESTINATION ${package_dir} NO_SET_AND_CHECK_MACRO NO_CHECK_REQUIRED_COMPONENTS_MACRO)
# Below 1.0 a minor version may change the interface: docs/stability.md.
write_basic_package_version_file(kestrel_wind-config-version.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/kestrel_wind-config.cmake
  ${CMAKE_CURRENT_BINARY_DIR}/kestrel_wind-config-version.cmake ${CMAKE_CURRENT_LIST_DIR}/KwindGenerate.cmake
  DESTINATION ${package_dir} COMPONENT dev)
# From its folder up to the prefix.
file(RELATIVE_PATH KWIND_PC_TO_PREFIX /prefix/${CMAKE_INSTALL_LIBDIR}/pkgconfig /prefix)
string(REGEX REPLACE "/$" "" KWIND_PC_TO_PREFIX ${KWIND_PC_TO_PREFIX})
configure_file(cmake/kwind.pc.in kwind.pc @ONLY)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/kwind.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig COMPONENT dev)

if(KWIND_TOOL)
  install(TARGETS kwind RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT tool)
  # Man pages and completions are what the tool says of itself. Debian wants pages compressed, without a time.
  find_program(KWIND_GZIP gzip REQUIRED)
  set(manual ${PROJECT_BINARY_DIR}/manual)
  add_custom_command(OUTPUT ${manual}.stamp
    COMMAND ${CMAKE_COMMAND} -E rm -rf ${manual}
    COMMAND kwind manual ${manual}
    COMMAND ${KWIND_GZIP} -9nrf ${manual}/man
    COMMAND ${CMAKE_COMMAND} -E touch ${manual}.stamp
    DEPENDS kwind COMMENT "Man pages and completions" VERBATIM)
  add_custom_target(kwind_manual ALL DEPENDS ${manual}.stamp)
  install(DIRECTORY ${manual}/ DESTINATION ${CMAKE_INSTALL_DATADIR} COMPONENT tool)
endif()
option(KWIND_PACKAGES "Offer Debian packages to cpack" OFF)
if(KWIND_PACKAGES)
  include(cmake/Packages.cmake)
endif()
