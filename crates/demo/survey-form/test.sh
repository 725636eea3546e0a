#!/bin/sh
# What must be true of the questions before anybody is asked them.
set -eu
number=0
while read -r question; do
    number=$((number + 1))
    case $question in
        *\?) ;;
        *) echo "question $number does not end with a question mark: $question"; exit 1 ;;
    esac
done < questions.txt
[ "$number" -gt 0 ] || { echo "questions.txt has no question"; exit 1; }
[ "$number" -le 5 ] || { echo "$number questions are too many: nobody answers more than 5"; exit 1; }
case $(cat page.html) in *QUESTIONS*) ;; *) false ;; esac || { echo "page.html has no place for the questions"; exit 1; }
echo "$number questions are as they should be"
