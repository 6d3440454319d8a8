"""Work in worker processes: printing, measuring, matching, batches."""
