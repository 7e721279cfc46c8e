# The long ones first, so that both cores have something to do until the end.
foreach(test ${nuvrat_tests_TESTS} ${nuvrat_unit_tests_TESTS})
  if(test MATCHES "^(power cut|kill|judge|arrange: random|ntfs: random|machine: the power|boot: firmware|edit|to FAT: there|json)")
    set_tests_properties("${test}" PROPERTIES COST 1000)
  endif()
endforeach()
