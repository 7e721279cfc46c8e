"""Every value of a registry hive as libregf reads it: path, type and bytes in hexadecimal."""
import sys

import pyregf

file = pyregf.file()
file.open(sys.argv[1])
open_keys = [(file.get_root_key(), "")]
while open_keys:
    key, path = open_keys.pop()
    for i in range(key.number_of_values):
        value = key.get_value(i)
        print("%s\\%s %d %s" % (path, value.name or "", value.type, (value.data or b"").hex()))
    for i in range(key.number_of_sub_keys):
        child = key.get_sub_key(i)
        open_keys.append((child, path + "/" + child.name))
