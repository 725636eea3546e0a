"""Run it with: python3 -m unittest"""

import unittest

from main import answer


class Answers(unittest.TestCase):
    def test_it_says_that_it_is_well(self):
        self.assertEqual(answer("/healthz"), (200, "well\n"))

    def test_what_is_not_there_is_told(self):
        self.assertEqual(answer("/nothing")[0], 404)
