"""Reads figures in the OpenMetrics format from standard input, and prints them a line each."""

import sys

from prometheus_client.openmetrics.parser import text_string_to_metric_families

for family in text_string_to_metric_families(sys.stdin.read()):
    for sample in family.samples:
        labels = ",".join(f"{key}={value}" for key, value in sorted(sample.labels.items()))
        print(sample.name, labels, sample.value)
