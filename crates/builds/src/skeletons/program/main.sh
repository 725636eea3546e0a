#!/bin/sh
# Works from time to time, and says what it did. It ends when it is asked to.
trap 'echo "asked to end"; exit 0' TERM
echo "NAME began"
while true; do
    echo "NAME is at work"
    sleep 10 &
    wait $!
done
