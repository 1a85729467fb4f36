package reader

import "testing"

func TestWhatAScriptSaysOfItself(t *testing.T) {
	t.Parallel()
	for want, text := range map[string]string{
		"Fires the kiln and waits until it is hot.": "# Fires the kiln and waits\n# until it is hot. Takes no arguments.\nset -e\n",
		"Packs the glazes":                          "# Copyright 2031 The Emberclay Authors. All rights reserved.\n# Use of this source code is governed by a BSD-style\n# license that can be found in the LICENSE file.\n\n# Packs the glazes\n\n# and more\n",
		"Weighs clay":                               "\n# SPDX-License-Identifier: MIT\n#\n# Licensed under the Apache License, Version 2.0\n#\n#     http://www.apache.org/licenses/LICENSE-2.0\n#\n# Unless required by applicable law or agreed to in writing, software\n#\n# ------\n# Weighs clay\necho\n",
		"Sorts the shelves.":                        "# -*- coding: utf-8 -*-\n\"\"\"Sorts the shelves.\n\nAll of them.\n\"\"\"\nimport os\n",
		"Builds a thing":                            "# SPDX-License-Identifier: MIT\n# Builds a thing\n",
		"Counts cones":                              "'''\nCounts cones\n'''\n",
		"Bakes":                                     "/**\n * Bakes\n *\n * @author somebody\n */\nrun();\n",
		"Turns a pot.":                              "\n# Copyright (c) 2013 Somebody\n#\n# THIS SOFTWARE IS PROVIDED BY THE COPYRIGHT HOLDERS\n# \"AS IS\" AND ANY EXPRESS OR IMPLIED WARRANTIES ARE DISCLAIMED.\n#\n# Turns a pot. Often.\n",
		"Draws the wheel":                           "<?php\n/* Draws the wheel */\n",
		"Rolls a slab":                              "-- Rolls a slab\nprint(1)\n",
		"firing.sh: keeps the log, e.g. of the kiln...": "# firing.sh: keeps the log, e.g. of the kiln...\n",
	} {
		if got := scriptAbout([]byte(text)); got != want {
			t.Errorf("%q\n got %q\nwant %q", text, got, want)
		}
	}
	for _, text := range []string{"set -e\n# no head\n", "", "# Copyright me\n", "# XXX\n", "# Permission to use, copy, modify this for any purpose is granted.\n", "import x\n\"\"\"later\"\"\"\n", "/* never ended \n", "\n\n"} {
		if got := scriptAbout([]byte(text)); got != "" && got != "never ended" {
			t.Errorf("%q says %q", text, got)
		}
	}
}
