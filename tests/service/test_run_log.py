"""A run's log: its oldest lines go, and a reader keeps its place in what stays."""

from __future__ import annotations


def test_a_reader_keeps_its_place_while_the_oldest_lines_go(services):
    from pinecart.service.config.settings import STATE
    from pinecart.service.runs.log_files import files_of, log_after, log_pieces
    from pinecart.service.runs.services.clearing import clear_log
    from pinecart.service.worker.run_log import FILES_BEFORE, RunLog

    log = RunLog(7, STATE.run_file(7, "log.jsonl"), limit=2000)
    read, after = [], 0
    for n in range(400):
        log.write("told", f"Line {n}.", {"n": n})
        if n % 3 == 0:
            lines, after = log_after(7, after, 2)
            read += [line["n"] for line in lines]
    lines, _ = log_after(7, after, 1000)
    read += [line["n"] for line in lines]
    kept = [line["n"] for line in log_after(7, 0, 1000)[0]]
    log.close()
    again = RunLog(7, STATE.run_file(7, "log.jsonl"), limit=2000)
    for n in range(400, 450):
        again.write("told", f"Line {n}.", {"n": n})
    later, end = log_after(7, after, 1000)
    again.close()
    files = [file.stat().st_size for file in files_of(7)]
    whole = b"".join(log_pieces(7)).count(b"\n")
    nothing = log_after(7, end, 1000)
    clear_log(7)
    assert read == sorted(set(read)), "no line twice, and in order"
    assert read[-1] == 399 and len(read) > 250
    assert kept == list(range(kept[0], 400)), "the newest are there, whole"
    assert 10 < len(kept) < 200
    assert later[-1]["n"] == 449 and nothing == ([], end)
    assert len(files) == FILES_BEFORE + 1 and max(files) <= 2200
    assert whole > 10 and not files_of(7)
