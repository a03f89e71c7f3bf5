# Makes a C source of files: OUTPUT, PARTS is a list of NAME=FILE. See tool/page.h.
set(source "#include \"page.h\"\n")
foreach(part ${PARTS})
  string(REGEX MATCH "^([^=]*)=(.*)$" match "${part}")
  set(name ${CMAKE_MATCH_1})
  set(file ${CMAKE_MATCH_2})
  file(READ ${file} bytes HEX)
  string(LENGTH "${bytes}" digits)
  math(EXPR size "${digits} / 2")
  string(REGEX REPLACE "([0-9a-f][0-9a-f])" "0x\\1," bytes "${bytes}")
  string(REGEX REPLACE "(................................................................................)" "\\1\n" bytes "${bytes}")
  # The digest in base64, as a page's policy has it (CSP 3, section 2.3.1).
  execute_process(
    COMMAND sh -c "sha256sum <\"$1\" | cut -c1-64 | tr a-f A-F | basenc --base16 -d | base64"
            sh ${file}
    OUTPUT_VARIABLE hash OUTPUT_STRIP_TRAILING_WHITESPACE RESULT_VARIABLE failed)
  if(failed OR hash STREQUAL "")
    message(FATAL_ERROR "no digest of ${file}")
  endif()
  string(APPEND source "static const unsigned char ${name}_text[] = {\n${bytes}};\n"
    "const page_part ${name} = {${name}_text, ${size}, \"sha256-${hash}\"};\n")
endforeach()
file(WRITE ${OUTPUT} "${source}")
