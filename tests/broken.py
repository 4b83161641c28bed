"""Things broken on purpose, each of which some test must catch. `make test-mutants` applies them one by one in a copy.

An entry is (name, file below src/neogenesis, what stands there once, what stands there instead, the tests that see it).
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Broken:
    name: str
    file: str
    before: str
    after: str
    tests: str


_PAINT = "    def paintEvent(self, event: QPaintEvent | None) -> None:\n"
_STOPS = "tests/test_window_seen.py -k day"


def _blank(name: str, file: str, first: str, tests: str = _STOPS) -> Broken:
    """A drawing that paints nothing."""
    return Broken(f"{name} is blank", file, _PAINT + first, f"{_PAINT}        return\n{first}", tests)


BROKEN: tuple[Broken, ...] = (
    # The engine
    Broken(
        "the cache answers for the medium",
        "core/store/file.py",
        "        return _Uncached(self._file)\n",
        "        return self\n",
        "tests/test_faulty.py -k dead_drive",
    ),
    Broken(
        "a store goes on after a failed flush",
        "core/store/base.py",
        "            self._finished = error\n",
        "",
        "tests/test_faulty.py -k failed_flush",
    ),
    Broken(
        "the old drive is not looked at again",
        "core/transfer/steps.py",
        "    transfer.same_source()\n",
        "",
        "tests/test_trust.py -k changes_while",
    ),
    Broken(
        "salvage follows links",
        "core/salvage/beneath.py",
        "os.open(part, _FOLDER, dir_fd=at)",
        "os.open(part, os.O_RDONLY | os.O_DIRECTORY, dir_fd=at)",
        "tests/test_trust.py -k no_link",
    ),
    Broken(
        "a map is believed without looking",
        "bench/works/rescuing.py",
        "        distrusted(found, opened.store, goal.store)\n",
        "",
        "tests/test_trust.py -k rescue_map",
    ),
    Broken(
        "a file system over several devices is seen on one",
        "bench/drives/system.py",
        "            if number in members:\n                return members\n",
        "",
        "tests/test_block_system.py",
    ),
    Broken(
        "what is read back is not compared",
        "core/transfer/readback.py",
        "if piece is None or not _fits(c.digest, piece)]",
        "if piece is None]",
        "tests/test_trust.py -k flipped_bit",
    ),
    Broken(
        "any tail confirms",
        "core/transfer/admission.py",
        "    if not expected or tail.casefold() != expected.casefold():\n",
        "    if not expected:\n",
        "tests/test_transfer.py -k wrong_tail",
    ),
    Broken(
        "lost ranges are named where they land",
        "core/store/pieces.py",
        "                found += self.base.places_below(source + first - at, source + last - at)\n",
        "                found += self.base.places_below(first, last)\n",
        "tests/test_transfer.py -k moved_volume",
    ),
    Broken(
        "damaged sectors are sound",
        "core/drive/health.py",
        "        if count:\n",
        "        if count < 0:\n",
        "tests/test_health.py",
    ),
    Broken(
        "packed raw values count whole",
        "core/drive/smart.py",
        "    return count if count < _PACKED else count & 0xFFFF_FFFF\n",
        "    return count\n",
        "tests/test_health.py -k figures",
    ),
    Broken(
        "a silent bridge is a dead drive",
        "core/drive/smart.py",
        "        return None if _silent_way(raw) else HealthReading",
        "        return HealthReading",
        "tests/test_health.py -k verdict",
    ),
    Broken(
        "the serial alone makes a drive the same",
        "core/drive/identity.py",
        "            return (self.serial, self.size_bytes) == (other.serial, other.size_bytes)\n",
        "            return self.serial == other.serial\n",
        "tests/test_window_bench.py -k by_serial",
    ),
    # Commands
    Broken(
        "a report without rows",
        "app/handover/report_print.py",
        "        if section.rows:\n",
        "        if not section.rows:\n",
        "tests/test_commands.py -k report_is_printed",
    ),
    Broken(
        "progress in a pipe",
        "cli/terminal.py",
        "    return sys.stderr.isatty()\n",
        "    return True\n",
        "tests/test_commands.py -k pipe",
    ),
    Broken(
        "a bug report names the customer",
        "bench/records/bug_report.py",
        '    return {"stop": job.stop,',
        '    return {"customer": job.customer, "stop": job.stop,',
        "tests/test_commands.py -k bug_report",
    ),
    # What runs, and what is typed
    Broken(
        "work ends with the job that was open",
        "app/desk/desks.py",
        "            if ticket != self._front and not desk.is_busy:\n",
        "            if ticket != self._front:\n",
        "tests/test_window_bench.py -k heard_to_its_end",
    ),
    Broken(
        "an old plan stays good for another drive",
        "app/plan/model.py",
        "and not self._is_old(plan.source.survey.drive):\n",
        "and False:\n",
        "tests/test_window_bench.py -k out_of_date",
    ),
    Broken(
        "an end that nobody saw is forgotten",
        "app/transfer/model.py",
        '        return bool(kinds) and kinds[-1] == "transfer-start"\n',
        "        return False\n",
        "tests/test_window_bench.py -k no_window",
    ),
    Broken(
        "drafts are lost",
        "app/parts/drafts.py",
        "    field.textChanged.connect(remember)\n",
        "    field.textChanged.connect(lambda: None)\n",
        "tests/test_window_bench.py -k nothing_typed",
    ),
    Broken(
        "a typed size is ignored",
        "app/plan/view.py",
        "        if self._take_size() and self._take_volume() and self._model.refusal is None:\n",
        "        if self._model.refusal is None:\n",
        "tests/test_window_bench.py -k typed_size",
    ),
    Broken(
        "a fault is not logged",
        "app/shell/trouble.py",
        '        _log.error("%s\\n%s", _version_line(), text)\n',
        "",
        "tests/test_window_bench.py -k exception",
    ),
    Broken(
        "twins are not told",
        "app/desk/bench.py",
        "            twin = present and bool(docked.drive.serial) and serials[docked.drive.serial] > 1\n",
        "            twin = False\n",
        "tests/test_window_bench.py -k by_serial",
    ),
    # What is shown
    Broken(
        "sealed and writable exchanged",
        "app/desk/desks.py",
        '            return tr("sealed")\n        return tr("may be written")\n',
        '            return tr("may be written")\n        return tr("sealed")\n',
        _STOPS,
    ),
    Broken(
        "a failing drive looks good",
        "app/words.py",
        '"copy-now": "stop"',
        '"copy-now": "good"',
        "tests/test_window_seen.py -k failing",
    ),
    Broken(
        "end times exchanged",
        "app/words.py",
        'return tr("{0} to {1}").format(low, high)',
        'return tr("{0} to {1}").format(high, low)',
        "tests/test_parts.py -k time_ranges",
    ),
    Broken(
        "the logbook the wrong way round",
        "app/logbook/lines.py",
        "    for entry in reversed(entries[-_MOST_SHOWN:]):\n",
        "    for entry in entries[-_MOST_SHOWN:]:\n",
        _STOPS,
    ),
    Broken(
        "lost files are not listed",
        "app/keep/page.py",
        "            self.files.show_files(heard.files)\n",
        "            self.files.show_files([])\n",
        "tests/test_window_keep.py -k rescue_is_shown",
    ),
    Broken(
        "jobs in any order",
        "app/jobs/model.py",
        "    return sorted(rows, key=lambda r: (r.job.closed, moment_of(r.job.promise) or datetime.max, r.job.ticket))\n",
        "    return sorted(rows, key=lambda r: r.job.ticket)\n",
        "tests/test_jobs_list.py -k overdue",
    ),
    Broken(
        "nothing is ever overdue",
        "app/jobs/model.py",
        "due is not None and due < now",
        "due is not None and due > now",
        "tests/test_jobs_list.py -k overdue",
    ),
    Broken(
        "the course is not drawn",
        "app/parts/course.py",
        "            painter.drawPath(shape([*scene.track[::step], scene.track[-1]]))\n",
        "            shape([*scene.track[::step], scene.track[-1]])\n",
        "tests/test_window_seen.py -k course",
    ),
    Broken(
        "the course goes when reading back begins",
        "app/transfer/running.py",
        "        total = progress.copied_before or progress.total_bytes\n",
        "        total = progress.copied_before\n",
        _STOPS,
    ),
    _blank("the survey's column", "app/survey/canvas.py", "        painter = QPainter(self)\n"),
    _blank("the plan", "app/plan/canvas.py", ""),
    Broken(
        "a drive's card is blank",
        "app/shelf/view.py",
        "            self._paint_words(painter, area, card, ghost)\n",
        "            pass\n",
        _STOPS,
    ),
    _blank("a station of the route", "app/rail/view.py", "        painter = QPainter(self)\n"),
    _blank("the filling column", "app/transfer/canvas.py", "        painter = QPainter(self)\n"),
    _blank("a heading", "app/parts/heading.py", ""),
    _blank("before and after", "app/parts/bars.py", ""),
    _blank("the week", "app/rail/week.py", "        painter = QPainter(self)\n", "tests/test_jobs_list.py -k painted"),
    _blank(
        "running work",
        "app/jobs/running.py",
        "        painter = QPainter(self)\n",
        "tests/test_jobs_list.py -k painted",
    ),
    # Language, preferences, the desktop
    Broken(
        "sentences of the core stay English",
        "app/language.py",
        "    return LANGUAGE.sentence(text) or text\n",
        "    return text\n",
        "tests/test_language.py -k known_by_their_template",
    ),
    Broken(
        "one thing is many",
        "app/language.py",
        "return LANGUAGE.counted(one, n) or (one if n == 1 else many)",
        "return many",
        "tests/test_language.py -k plurals",
    ),
    Broken(
        "drawings are not mirrored",
        "app/parts/mirror.py",
        "        painter.scale(-1, 1)\n\n\n@contextmanager",
        "        painter.scale(1, 1)\n\n\n@contextmanager",
        "tests/test_language.py -k right_to_left",
    ),
    Broken(
        "reports have no letterhead",
        "app/handover/report_print.py",
        "parts = [_letterhead(shop)] if shop.name or shop.letterhead else []",
        "parts: list[str] = []",
        "tests/test_preferences.py -k letterhead",
    ),
    Broken(
        "the window forgets where it was",
        "app/preferences/appearance.py",
        "            window.restoreGeometry(",
        "            bytes(",
        "tests/test_preferences.py -k found_again",
    ),
    Broken(
        "what cannot be done is offered",
        "app/command/actions.py",
        "            made.setEnabled(action.available())\n",
        "            made.setEnabled(True)\n",
        "tests/test_preferences.py -k switched_off",
    ),
    Broken(
        "the computer may sleep",
        "bench/processes/work.py",
        "        stack.enter_context(kept_awake(_WHY[kind]))\n",
        "",
        "tests/test_power.py -k awake",
    ),
    Broken(
        "drives that come are not heard of",
        "bench/drives/hotplug.py",
        "                changed()\n",
        "                pass\n",
        "tests/test_power.py -k come_and_go",
    ),
    Broken(
        "the title says nothing of running work",
        "app/shell/news.py",
        'f"{head} · Neogenesis" if running else f"Neogenesis · {self._name}"',
        'f"Neogenesis · {self._name}"',
        "tests/test_preferences.py -k title",
    ),
    # Opening machines
    Broken(
        "a caution is passed over",
        "core/swap/guide.py",
        "        if self.pending:\n            raise BadArgument(",
        "        if False:\n            raise BadArgument(",
        "tests/test_swap.py -k cautions_stop",
    ),
    Broken(
        "something may be left in the tray",
        "core/swap/guide.py",
        "        if left:\n            told",
        "        if False:\n            told",
        "tests/test_swap.py -k left_in_the_tray",
    ),
    Broken(
        "the battery may come late",
        "core/swap/faults.py",
        "    yield from _battery(machine)\n",
        "",
        "tests/test_swap.py -k battery",
    ),
    _blank(
        "the machine that lies open",
        "app/swap/canvas.py",
        "        if self._guide is None:\n            return\n        painter = QPainter(self)\n"
        "        painter.setRenderHint(QPainter.RenderHint.Antialiasing)\n        machine, margin",
        "tests/test_window_swap.py -k which_one_is_next",
    ),
    # Starting
    Broken(
        "switched-off entries are started",
        "core/boot/uefi.py",
        "        elif not entry.active:",
        "        elif False:",
        "tests/test_boot.py -k switched",
    ),
    Broken(
        "a remedy is not recorded",
        "bench/works/mending.py",
        "        save(place, made)\n",
        "",
        "tests/test_remedies.py -k cut_off",
    ),
    Broken(
        "undo writes over anything",
        "bench/works/mending.py",
        "        _refuse_unless(target.store, _in_pieces(changes))\n",
        "",
        "tests/test_remedies.py -k records",
    ),
    _blank(
        "the chain of the start",
        "app/first_boot/chain.py",
        "        if not self.stations:\n",
        "tests/test_window_boot.py -k mended",
    ),
    # A clean start
    Broken(
        "an older driver wins",
        "core/drivers/rank.py",
        "place_in_inf, -_days(day),",
        "place_in_inf, _days(day),",
        "tests/test_drivers.py -k newer_date",
    ),
    Broken(
        "a driver without a catalogue is covered",
        "core/drivers/rank.py",
        "        return not self.has_catalog or (",
        "        return (",
        "tests/test_drivers.py -k doubt",
    ),
    Broken(
        "programs return after malware",
        "core/reinstall/returned.py",
        '        if kind == "programs" and not wish.programs:',
        "        if False:",
        "tests/test_reinstall.py -k names",
    ),
    Broken(
        "what was salvaged is not compared",
        "bench/works/installing.py",
        "    if held.blake3 and digest.hex() != held.blake3:",
        "    if False:",
        "tests/test_reinstall.py -k salvaged",
    ),
    Broken(
        "a lying stick is believed",
        "core/media/probe.py",
        "        if medium.read(place, _PIECE) != _mark(place, _PIECE, seed):",
        "        if False:",
        "tests/test_media.py -k lies",
    ),
    Broken(
        "names in a system image lead out of it",
        "bench/inside/system_image.py",
        '    return None if ".." in parts else "/".join(parts)',
        '    return "/".join(parts)',
        "tests/test_reinstall.py -k no_system_image",
    ),
    Broken(
        "answers follow a link of the image out of the volume",
        "bench/inside/laying.py",
        "        if waiting and place.is_symlink():\n",
        "        if False:\n",
        "tests/test_reinstall.py -k later_follows",
    ),
    Broken(
        "a link is put through a link of the image",
        "bench/inside/laying.py",
        "            if os.path.lexists(place) or ",
        "            if os.path.islink(place) or ",
        "tests/test_reinstall.py -k laying_out",
    ),
    Broken(
        "names count in any letters on every volume",
        "bench/works/installing.py",
        "    key = str.casefold if folded else str\n",
        "    key = str.casefold\n",
        "tests/test_reinstall.py -k differ_only",
    ),
    Broken(
        "people's files come from any drive",
        "bench/inside/returning.py",
        "        if identity and opened.drive.identity.key != identity:\n",
        "        if False:\n",
        "tests/test_reinstall.py -k old_drive",
    ),
    Broken(
        "a module takes a file of the bench for its firmware",
        "bench/inside/driver_store.py",
        "if p.is_file() and _is_beneath(p, roots)), None)",
        "if p.is_file()), None)",
        "tests/test_drivers.py -k outside",
    ),
    Broken(
        "the new boot store means another partition",
        "core/boot/store.py",
        'struct.pack("<IIII", 6, 0, 0x48, 0) + guid_bytes(partition_id)',
        'struct.pack("<IIII", 6, 0, 0x48, 0) + guid_bytes(disk_id)',
        "tests/test_reinstall.py -k own_image",
    ),
    _blank(
        "the volume of people's files",
        "app/plan/people.py",
        "        if not self.strata:\n            return\n        painter = QPainter(self)\n",
        "tests/test_window_fresh.py -k drivers",
    ),
    Broken(
        "place holders stay",
        "core/reinstall/system.py",
        '        data = data.replace(f"@@{name}@@".encode(), value.encode())\n',
        "        pass\n",
        "tests/test_reinstall.py -k starts",
    ),
    _blank(
        "the drive of a recipe",
        "app/plan/fresh_canvas.py",
        "        painter = QPainter(self)\n        follow_direction(painter, self.rect())\n",
        "tests/test_window_fresh.py -k recipe",
    ),
    Broken(
        "a run-in writes onto the old drive",
        "bench/works/run_in.py",
        "        if serial and serial in refused:\n",
        "        if not serial and serial in refused:\n",
        "tests/test_run_in.py -k refused",
    ),
    Broken(
        "letters stay at the old signature",
        "core/boot/identity.py",
        "        yield old + start, new + start\n",
        "        yield old + start, old + start\n",
        "tests/test_remedies.py -k old_table",
    ),
    Broken(
        "what nobody has seen opens its gate",
        "app/plan/model.py",
        "open=text in self.confirmed",
        "open=True",
        "tests/test_window_fresh.py -k tick",
    ),
    Broken(
        "the end of a cache is not marked",
        "app/first_boot/run_in.py",
        "        if scene.knee is not None:\n",
        "        if scene.knee is None:\n",
        "tests/test_window_boot.py -k run_in",
    ),
)
