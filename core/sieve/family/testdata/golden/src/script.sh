#!/bin/sh
for f in $(ls *.c); do
  echo $f | grep x
done
cat file | wc -l
if [ $x == 1 ]; then echo "unterminated; fi
