# What is installed besides libraries, headers, the command and the examples, and the package made of it by `cpack`.
include(CMakePackageConfigHelpers)
set(cmake_folder ${CMAKE_INSTALL_LIBDIR}/cmake/AntCrew)
configure_package_config_file(cmake/AntCrewConfig.cmake.in AntCrewConfig.cmake INSTALL_DESTINATION ${cmake_folder})
write_basic_package_version_file(AntCrewConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/AntCrewConfig.cmake ${CMAKE_CURRENT_BINARY_DIR}/AntCrewConfigVersion.cmake
              cmake/AntCrewDependencies.cmake cmake/AntCrewBuildFacts.cmake
        DESTINATION ${cmake_folder})
install(EXPORT AntCrewTargets NAMESPACE antcrew:: DESTINATION ${cmake_folder})

# For builds without CMake: pkg-config finds the rest from where its own file is.
set(pkgconfig_folder ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
file(RELATIVE_PATH up_to_prefix /${pkgconfig_folder} /)
string(REGEX REPLACE "/$" "" up_to_prefix "${up_to_prefix}")
configure_file(cmake/antcrew.pc.in antcrew.pc @ONLY)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/antcrew.pc DESTINATION ${pkgconfig_folder})
if(TARGET antcrew_ranks)
  configure_file(cmake/antcrew-ranks.pc.in antcrew-ranks.pc @ONLY)
  install(FILES ${CMAKE_CURRENT_BINARY_DIR}/antcrew-ranks.pc DESTINATION ${pkgconfig_folder})
endif()

set(doc_folder ${CMAKE_INSTALL_DATAROOTDIR}/doc/antcrew)
install(FILES README.md CHANGELOG.md DESTINATION ${doc_folder})
install(DIRECTORY docs/ DESTINATION ${doc_folder}/docs FILES_MATCHING PATTERN "*.md" PATTERN "*.json" PATTERN "*.png")
install(DIRECTORY examples/estuary DESTINATION ${doc_folder}/examples)

# Made from what the command says of itself, so they need a command that runs here.
find_program(HELP2MAN help2man DOC "Makes the manual's pages from --help; package help2man")
if(ANTCREW_COMMAND AND HELP2MAN AND NOT ANTCREW_DEMO_ONLY AND NOT ANTCREW_SANITIZE AND NOT CMAKE_CROSSCOMPILING)
  set(pages_folder ${CMAKE_CURRENT_BINARY_DIR}/pages)
  add_custom_command(OUTPUT ${pages_folder}/made
    COMMAND ${CMAKE_CURRENT_SOURCE_DIR}/scripts/manual.sh $<TARGET_FILE:antcrew_command> ${HELP2MAN} ${pages_folder}
    DEPENDS antcrew_command scripts/manual.sh VERBATIM)
  add_custom_target(antcrew_manual ALL DEPENDS ${pages_folder}/made)
  install(DIRECTORY ${pages_folder}/man1 DESTINATION ${CMAKE_INSTALL_MANDIR})
  install(FILES ${pages_folder}/antcrew.bash DESTINATION ${CMAKE_INSTALL_DATAROOTDIR}/bash-completion/completions RENAME antcrew)
  install(FILES ${pages_folder}/antcrew.zsh DESTINATION ${CMAKE_INSTALL_DATAROOTDIR}/zsh/vendor-completions RENAME _antcrew)
endif()

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME antcrew)
set(CPACK_PACKAGE_VERSION ${PROJECT_VERSION})
set(CPACK_PACKAGE_CONTACT "The Ant Crew developers <developers@antcrew.example>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "${PROJECT_DESCRIPTION}")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)  # programs; static libraries keep their symbols
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SECTION devel)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
# What a program that links the library needs, too.
set(CPACK_DEBIAN_PACKAGE_DEPENDS "libfmt-dev, libhwloc-dev, libdw-dev, pkg-config")
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "g++, cmake")
set(CPACK_DEBIAN_PACKAGE_SUGGESTS "gnuplot-nox")
include(CPack)
