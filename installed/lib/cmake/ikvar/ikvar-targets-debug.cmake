#----------------------------------------------------------------
# Generated CMake target import file for configuration "Debug".
#----------------------------------------------------------------

# Commands may need to know the format version.
set(CMAKE_IMPORT_FILE_VERSION 1)

# Import target "ikvar::core" for configuration "Debug"
set_property(TARGET ikvar::core APPEND PROPERTY IMPORTED_CONFIGURATIONS DEBUG)
set_target_properties(ikvar::core PROPERTIES
  IMPORTED_LINK_INTERFACE_LANGUAGES_DEBUG "C"
  IMPORTED_LOCATION_DEBUG "${_IMPORT_PREFIX}/lib/libikvar.a"
  )

list(APPEND _cmake_import_check_targets ikvar::core )
list(APPEND _cmake_import_check_files_for_ikvar::core "${_IMPORT_PREFIX}/lib/libikvar.a" )

# Import target "ikvar::core_shared" for configuration "Debug"
set_property(TARGET ikvar::core_shared APPEND PROPERTY IMPORTED_CONFIGURATIONS DEBUG)
set_target_properties(ikvar::core_shared PROPERTIES
  IMPORTED_LOCATION_DEBUG "${_IMPORT_PREFIX}/lib/libikvar.so.0.1.0"
  IMPORTED_SONAME_DEBUG "libikvar.so.0"
  )

list(APPEND _cmake_import_check_targets ikvar::core_shared )
list(APPEND _cmake_import_check_files_for_ikvar::core_shared "${_IMPORT_PREFIX}/lib/libikvar.so.0.1.0" )

# Import target "ikvar::host" for configuration "Debug"
set_property(TARGET ikvar::host APPEND PROPERTY IMPORTED_CONFIGURATIONS DEBUG)
set_target_properties(ikvar::host PROPERTIES
  IMPORTED_LINK_INTERFACE_LANGUAGES_DEBUG "C"
  IMPORTED_LOCATION_DEBUG "${_IMPORT_PREFIX}/lib/libikvar-host.a"
  )

list(APPEND _cmake_import_check_targets ikvar::host )
list(APPEND _cmake_import_check_files_for_ikvar::host "${_IMPORT_PREFIX}/lib/libikvar-host.a" )

# Import target "ikvar::host_shared" for configuration "Debug"
set_property(TARGET ikvar::host_shared APPEND PROPERTY IMPORTED_CONFIGURATIONS DEBUG)
set_target_properties(ikvar::host_shared PROPERTIES
  IMPORTED_LOCATION_DEBUG "${_IMPORT_PREFIX}/lib/libikvar-host.so.0.1.0"
  IMPORTED_SONAME_DEBUG "libikvar-host.so.0"
  )

list(APPEND _cmake_import_check_targets ikvar::host_shared )
list(APPEND _cmake_import_check_files_for_ikvar::host_shared "${_IMPORT_PREFIX}/lib/libikvar-host.so.0.1.0" )

# Commands beyond this point should not need to know the version.
set(CMAKE_IMPORT_FILE_VERSION)
