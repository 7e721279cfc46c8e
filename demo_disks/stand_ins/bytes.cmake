# Programs as bytes of a source file.
set(out "#include \"system_disk.h\"\n\nnamespace orrelune {\n")
foreach(program ${PROGRAMS})
  file(READ ${MADE}/${program}.bin bytes HEX)
  string(REGEX REPLACE "(..)" "\\\\x\\1" bytes "${bytes}")
  string(REGEX REPLACE "((\\\\x..)(\\\\x..)?(\\\\x..)?(\\\\x..)?(\\\\x..)?(\\\\x..)?(\\\\x..)?(\\\\x..)?)" "\"\\1\"\n" bytes "${bytes}")
  string(APPEND out "nuvrat::ByteView ${program}() {\n  static const char bytes[] =\n${bytes};\n"
    "  return {reinterpret_cast<const std::uint8_t*>(bytes), sizeof bytes - 1};\n}\n")
endforeach()
file(WRITE ${MADE}/stand_ins.cpp "${out}}  // namespace orrelune\n")
