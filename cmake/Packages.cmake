# Debian packages, by `cpack` or ./dev package: libkwind0 (the shared library), libkwind-dev, kwind (the tool).
set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME kestrel-wind)
set(CPACK_PACKAGE_CONTACT "Kestrel Wind developers <developers@kestrel-wind.example>")
set(CPACK_PACKAGE_HOMEPAGE_URL "https://kestrel-wind.example/")
set(CPACK_PACKAGE_VERSION ${PROJECT_VERSION})
set(CPACK_DEBIAN_PACKAGE_RELEASE 1)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_COMPONENTS_ALL lib dev tool)
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_INSTALL_DEFAULT_DIRECTORY_PERMISSIONS
  OWNER_READ OWNER_WRITE OWNER_EXECUTE GROUP_READ GROUP_EXECUTE WORLD_READ WORLD_EXECUTE)
set(CPACK_DEBIAN_PACKAGE_CONTROL_STRICT_PERMISSION ON)

set(CPACK_DEBIAN_LIB_PACKAGE_NAME libkwind0)
set(CPACK_DEBIAN_LIB_PACKAGE_SECTION libs)
set(CPACK_DEBIAN_LIB_PACKAGE_SHLIBDEPS ON)
# Which package programs depend on that are linked to the library, and that the linker's cache is made anew: by a
# trigger, not by a script.
set(control ${PROJECT_BINARY_DIR}/debian/control-lib)
file(WRITE ${control}/shlibs "libkwind 0 libkwind0 (>= ${PROJECT_VERSION})\n")
file(WRITE ${control}/triggers "activate-noawait ldconfig\n")
set(CPACK_DEBIAN_LIB_PACKAGE_CONTROL_EXTRA "${control}/shlibs;${control}/triggers")
set(CPACK_COMPONENT_LIB_DESCRIPTION "wire layer between a game server and its clients
Typed messages and replicated game state over UDP and TCP: reliable and
unreliable channels, requests, rooms, interest, encryption, tickets.

This package contains the shared library.")

set(CPACK_DEBIAN_DEV_PACKAGE_NAME libkwind-dev)
set(CPACK_DEBIAN_DEV_PACKAGE_SECTION libdevel)
set(CPACK_DEBIAN_DEV_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_DEV_PACKAGE_DEPENDS "libkwind0 (= ${PROJECT_VERSION}-${CPACK_DEBIAN_PACKAGE_RELEASE}), \
libfmt-dev, libexpected-dev, libeigen3-dev, libsodium-dev")
set(CPACK_DEBIAN_DEV_PACKAGE_RECOMMENDS "pkg-config, nlohmann-json3-dev, libssl-dev")
set(CPACK_DEBIAN_DEV_PACKAGE_SUGGESTS "cmake, kwind")
set(CPACK_COMPONENT_DEV_DESCRIPTION "wire layer between a game server and its clients - development
Typed messages and replicated game state over UDP and TCP: reliable and
unreliable channels, requests, rooms, interest, encryption, tickets.

This package contains headers for C++ and C, the static library, the code
generator, and files for CMake and pkg-config.")

set(CPACK_DEBIAN_TOOL_PACKAGE_NAME kwind)
set(CPACK_DEBIAN_TOOL_PACKAGE_SECTION net)
set(CPACK_DEBIAN_TOOL_PACKAGE_SHLIBDEPS ON)
set(CPACK_COMPONENT_TOOL_DESCRIPTION "tool for the wire between a game server and its clients
Checks descriptions and says what messages cost, generates code, explains
captures to the bit, puts bad paths between programs, lets bots loose on
servers, and passes messages on between clients (kwind relay, with a systemd
unit).")

# What every Debian package has in its documentation folder.
find_program(KWIND_GZIP gzip REQUIRED)
function(kwind_debian_docs component package)
  set(folder ${PROJECT_BINARY_DIR}/debian/${package})
  file(COPY packaging/debian/copyright DESTINATION ${folder})
  configure_file(packaging/debian/changelog ${folder}/changelog.Debian COPYONLY)
  # -n: no time in the file, so that two builds are the same.
  execute_process(COMMAND ${KWIND_GZIP} -9nf ${folder}/changelog.Debian COMMAND_ERROR_IS_FATAL ANY)
  # The tag asks for a bug of Debian's own list that an upload to Debian closes: this is none.
  file(WRITE ${folder}/overrides/${package} "${package}: initial-upload-closes-no-bugs\n")
  if(component STREQUAL lib)
    # CPack writes scripts that call ldconfig and has no switch for it; beside the trigger they do no harm.
    file(APPEND ${folder}/overrides/${package} "${package}: maintscript-calls-ldconfig *\n")
  endif()
  install(FILES ${folder}/overrides/${package} DESTINATION share/lintian/overrides COMPONENT ${component})
  install(FILES ${folder}/copyright ${folder}/changelog.Debian.gz DESTINATION share/doc/${package}
    COMPONENT ${component})
endfunction()
kwind_debian_docs(lib libkwind0)
kwind_debian_docs(dev libkwind-dev)
kwind_debian_docs(tool kwind)
install(FILES packaging/debian/kwind-relay@.service DESTINATION lib/systemd/system COMPONENT tool)
include(CPack)
