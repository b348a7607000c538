# SPDX-License-Identifier: MIT
# The Debian package: tools/package makes it.
set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME lucid-loop)
set(CPACK_PACKAGE_CONTACT "Lucid Loop <lucid-loop@example.org>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "${PROJECT_DESCRIPTION}")
set(CPACK_DEBIAN_PACKAGE_DESCRIPTION
  "The program lucid runs a microcontroller's program on an instruction-set simulator: breakpoints with pass
counts, steps through source and disassembly, registers, memory, pins and peripherals, back in time, at a
prompt, on a screen, in an editor and on a build server. With the C++ library and its headers.")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SECTION devel)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_DEPENDS fonts-dejavu-core)  # of pictures
# For who builds against the library.
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "libexpected-dev, libfmt-dev, libdw-dev, libelf-dev, libasmjit-dev")
set(CPACK_DEBIAN_PACKAGE_SUGGESTS "gcc-avr, avr-libc, libcairo2-dev")
include(CPack)
