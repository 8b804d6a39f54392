"""Every command of the window, in the order of its menus."""

from __future__ import annotations

from functools import partial

from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.desktop.kinds import COMMANDS
from keen_trellis.desktop.plain import menu_text
from keen_trellis.desktop.shell.commands import Command, separator
from keen_trellis.desktop.shell.here import Here
from keen_trellis.desktop.shell.settings import Remembered
from keen_trellis.desktop.shell.window import MainWindow
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.runner import Kept
from keen_trellis.session import editing, sampling
from keen_trellis.sources.library import Library


def all_commands(window: MainWindow) -> list[Command]:
    """The commands, menu by menu."""
    here = window.here
    menus = (_file, _edit, _flow, _step, _types, _rows, _view, _help)
    return [command for menu in menus for command in menu(window, here)]


def _file(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command("new", "File", "&New flow", "Ctrl+N", window.files.new),
        Command("open", "File", "&Open a flow or files…", "Ctrl+O", window.files.open_dialog),
        Command(
            "open_folder",
            "File",
            "Open a folder of like &files…",
            "Ctrl+Shift+F",
            window.sources.open_folder,
        ),
        Command(
            "open_together",
            "File",
            "Open several files as &one table…",
            "Ctrl+Alt+Shift+F",
            window.sources.open_together,
        ),
        Command(
            "open_address",
            "File",
            "Open a data&base by address…",
            "Ctrl+Shift+O",
            window.sources.open_address,
        ),
        Command("type_table", "File", "&Type or paste a table", "Ctrl+Shift+T", window.sources.type_table),
        Command("calendar", "File", "Add a &calendar", "Ctrl+Alt+Shift+D", window.sources.add_calendar),
        Command("demo", "File", "Open the &demo", "Ctrl+Shift+M", window.files.open_demo),
        separator("File"),
        Command("save", "File", "&Save", "Ctrl+S", window.files.save),
        Command("save_as", "File", "Save &as…", "Ctrl+Shift+S", window.files.save_as),
        Command("reach", "File", "Co&nnections and outputs…", "Ctrl+Shift+R", window.reaching.ask),
        separator("File"),
        Command(
            "match_report", "File", "&Match report…", "Ctrl+Shift+W", window.match_reports.ask, here.flow
        ),
        Command(
            "report_step",
            "File",
            "Match report &up to this step…",
            "Ctrl+Shift+U",
            window.match_reports.ask_of_step,
            here.step,
        ),
        Command(
            "answers",
            "File",
            "Read the ans&wers of a report…",
            "Ctrl+Shift+I",
            window.match_reports.ask_answers,
            here.flow,
        ),
        Command("picture", "File", "Save the trellis as a p&icture…", "Ctrl+Alt+I", window.save_picture),
        Command("print", "File", "&Print the trellis…", "Ctrl+P", window.print_trellis),
        separator("File"),
        Command("quit", "File", "&Quit", "Ctrl+Q", window.close_soon),
    ]


def _edit(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command(
            "undo",
            "Edit",
            "&Undo",
            "Ctrl+Z",
            window.session.undo,
            here.undo,
            text_now=lambda: f"&Undo {menu_text(window.session.history.undo_name)}".strip(),
        ),
        Command(
            "redo",
            "Edit",
            "&Redo",
            "Ctrl+Shift+Z",
            window.session.redo,
            here.redo,
            text_now=lambda: f"&Redo {menu_text(window.session.history.redo_name)}".strip(),
        ),
        Command("edits", "Edit", "&What the edits changed", "Ctrl+Shift+Y", window.bench.edits.show),
        separator("Edit"),
        Command(
            "copy",
            "Edit",
            "&Copy rows, or steps",
            "Ctrl+C",
            window.selected.copy,
            text_now=lambda: f"&Copy {here.what_is_chosen()}",
        ),
        Command("cut", "Edit", "Cu&t steps", "Ctrl+X", window.selected.cut),
        Command("paste", "Edit", "&Paste steps here", "Ctrl+V", window.selected.paste),
        Command(
            "choose_all",
            "Edit",
            "Select &all rows, or steps",
            "Ctrl+A",
            window.selected.choose_all,
            text_now=lambda: f"Select &all {here.what_is_chosen()}",
        ),
        Command("find", "Edit", "&Find in rows…", "Ctrl+F", window.bench.finding.open, here.grid),
        Command("find_next", "Edit", "Find ne&xt", "F3", window.bench.finding.go_on, here.grid),
        Command(
            "find_before",
            "Edit",
            "Find pre&vious",
            "Shift+F3",
            lambda: window.bench.finding.go_on(backwards=True),
            here.grid,
        ),
        separator("Edit"),
        Command("rename", "Edit", "Re&name…", "F2", window.selected.rename, here.nameable),
        Command(
            "remove",
            "Edit",
            "R&emove",
            "Delete",
            lambda: editing.remove_selected(window.session),
            here.removable,
        ),
        Command("note", "Edit", "&Note on the step…", "Ctrl+Alt+N", window.selected.note, here.step),
        Command(
            "skip",
            "Edit",
            "S&kip the step for now",
            "Ctrl+Shift+K",
            lambda: editing.skip_selected(window.session),
            here.step,
        ),
        Command(
            "earlier",
            "Edit",
            "Move the step &earlier",
            "Ctrl+Alt+Left",
            lambda: editing.move_selected(window.session, later=False),
            here.step,
        ),
        Command(
            "later",
            "Edit",
            "Move the step &later",
            "Ctrl+Alt+Right",
            lambda: editing.move_selected(window.session, later=True),
            here.step,
        ),
        separator("Edit"),
        Command("finder", "Edit", "Find any co&mmand…", "Ctrl+K", window.open_finder),
    ]


def _flow(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command(
            "begin", "Flow", "&Start a rail with this table", "Ctrl+B", window.selected.begin_rail, here.table
        ),
        Command("join", "Flow", "&Join with…", "Ctrl+J", window.combining.join_dialog, here.rows_or_table),
        Command(
            "blend", "Flow", "B&lend with…", "Ctrl+Shift+J", window.combining.blend_dialog, here.rows_or_table
        ),
        Command(
            "reconcile",
            "Flow",
            "Reco&ncile with…",
            "Ctrl+Alt+E",
            window.combining.reconcile_dialog,
            here.rows_or_table,
        ),
        Command("share", "Flow", "S&hare a filter…", "Ctrl+Alt+H", window.combining.share_filter, here.steps),
        Command(
            "union",
            "Flow",
            "Put rows &below these…",
            "Ctrl+Alt+A",
            window.combining.stack_dialog,
            here.rows_or_table,
        ),
        Command(
            "beside",
            "Flow",
            "Put rows ne&xt to these…",
            "Ctrl+Alt+Shift+A",
            window.combining.beside_dialog,
            here.rows_or_table,
        ),
        Command(
            "branch",
            "Flow",
            "Branch &off here",
            "Ctrl+Alt+X",
            lambda: editing.branch(window.session),
            here.rows,
        ),
        Command("swap", "Flow", "S&wap left and right", "Ctrl+T", window.selected.swap, here.knot),
        Command(
            "question",
            "Flow",
            "Change the &join…",
            "Ctrl+Return",
            window.selected.ask_question,
            here.knot,
        ),
        Command(
            "types",
            "Flow",
            "All join t&ypes side by side",
            "Ctrl+Shift+Return",
            window.bench.types.show_or_close,
            here.knot,
        ),
        Command(
            "guards", "Flow", "&Guards: what must hold…", "Ctrl+G", window.bench.guards.show, here.guarded
        ),
        separator("Flow"),
        Command(
            "output", "Flow", "Write these rows to a &file…", "Ctrl+E", window.writing.add_output, here.rows
        ),
        Command(
            "output_table",
            "Flow",
            "Write these rows to a &table…",
            "Ctrl+Shift+B",
            window.writing.add_table,
            here.rows,
        ),
        Command("write", "Flow", "Write all &outputs", "F9", window.writing.write_all, here.outputs),
        Command("values", "Flow", "Run &values…", "Ctrl+Alt+Shift+V", window.run_values.show),
        Command("from_sql", "Flow", "Steps from &SQL…", "Ctrl+Alt+Shift+S", lambda: window.from_sql.ask()),
        Command(
            "in_sql",
            "Flow",
            "These rows in S&QL",
            "Ctrl+Alt+Shift+Q",
            lambda: window.bench.in_sql.show(),
            here.step,
        ),
        Command(
            "whole",
            "Flow",
            "Take all rows of &samples",
            "Ctrl+Shift+F9",
            lambda: sampling.take_whole(window.session),
            here.steps,
        ),
        Command("hand_off", "Flow", "&Hand off…", "Shift+F9", lambda: window.handing_off.ask(), here.flow),
        Command("lists", "Flow", "Lists of c&orrections…", "Ctrl+Alt+Shift+L", window.correction_lists.show),
        separator("Flow"),
        Command("refresh", "Flow", "&Refresh all sources", "F5", window.session.refresh, here.steps),
        Command(
            "refresh_one",
            "Flow",
            "Refresh the selected sour&ce",
            "Ctrl+F5",
            window.sources.refresh_one,
            here.source,
        ),
        Command(
            "elsewhere",
            "Flow",
            "Read the source from e&lsewhere…",
            "Shift+F8",
            window.sources.elsewhere.ask_selected,
            here.source,
        ),
        Command("changes", "Flow", "What c&hanged", "Shift+F5", window.bench.changes.show),
        Command(
            "compare",
            "Flow",
            "Compare with a &version…",
            "Ctrl+Shift+V",
            window.match_reports.ask_version,
            here.flow,
        ),
        Command(
            "runs", "Flow", "The r&uns so far", "Ctrl+Shift+F5", lambda: window.bench.runs.show(), here.flow
        ),
        Command(
            "watch", "Flow", "&Watch the sources for changes", "Ctrl+Alt+W", window.sources.switch_watching
        ),
        Command(
            "keep_log",
            "Flow",
            "&Keep a log of its runs",
            "Ctrl+Alt+F5",
            lambda: editing.switch_log(window.session),
            text_now=lambda: f"&Keep {'no' if window.session.flow.keeps_log else 'a'} log of its runs",
        ),
        separator("Flow"),
    ]


def _step(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command(
            f"step_{kind}",
            "Step",
            f"{command.text} here…",
            f"Ctrl+Alt+{command.keys}",
            partial(window.selected.begin_step, kind, command),
            here.rows,
        )
        for kind, command in COMMANDS.items()
    ]


def _types(window: MainWindow, here: Here) -> list[Command]:
    return [
        *(
            Command(
                f"type_{n}",
                "Join type",
                kind.trade_name.capitalize(),
                str(n),
                window.selected.type_setter(kind),
                here.knot,
            )
            for n, kind in enumerate(QUESTION_TYPES, 1)
        ),
    ]


def _rows(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command(
            "record",
            "Rows",
            "&All fields of the row and its partners",
            "F4",
            window.bench.record.show,
            here.row,
        ),
        Command(
            "trace",
            "Rows",
            "Where the row comes from and &goes",
            "Shift+F4",
            window.bench.show_trace,
            here.step_row,
        ),
        Command(
            "follow",
            "Rows",
            "Follo&w a value…",
            "Ctrl+Shift+F4",
            window.bench.follow.show,
            here.flow,
            text_now=lambda: menu_text(window.bench.follow.said()),
        ),
        Command(
            "fields",
            "Rows",
            "&Fields and what they hold",
            "F7",
            window.bench.fields.show_or_close,
            here.anything,
        ),
        Command(
            "raw",
            "Rows",
            "Ra&w cells of the source, or of what is written",
            "Shift+F7",
            window.bench.show_raw,
            here.raw,
            lambda: "What is &written" if not here.raw() and here.source() else "Ra&w cells of the source",
        ),
        Command(
            "typing", "Rows", "&Edit the rows typed in", "Ctrl+Alt+T", window.bench.typing.show, here.typed
        ),
        Command(
            "mend", "Rows", "&Mend what the line says", "Ctrl+M", window.bench.grid.mend_current, here.mend
        ),
        Command(
            "mends", "Rows", "Other m&ends…", "Ctrl+Shift+E", window.bench.grid.open_current_mends, here.mend
        ),
        Command(
            "remedies",
            "Rows",
            "What summing this field counts…",
            "Ctrl+Alt+O",
            window.bench.grid.open_remedies,
            here.overcounted,
        ),
        Command("review", "Rows", "Re&view likely partners", "Ctrl+R", window.bench.mends.show, here.knot),
        Command(
            "pair",
            "Rows",
            "Pa&ir the row by hand…",
            "Ctrl+Shift+P",
            window.bench.correcting.pair,
            here.lonely,
        ),
        Command(
            "read_as",
            "Rows",
            "Rea&d this value as…",
            "Ctrl+Shift+A",
            window.bench.read_otherwise,
            here.step_row,
        ),
        Command(
            "clusters",
            "Rows",
            "Where the rows cl&uster by this field",
            "Ctrl+Shift+L",
            window.bench.clusters.show,
            here.column,
        ),
        Command(
            "spread",
            "Rows",
            "How the val&ues spread",
            "Ctrl+Shift+H",
            window.bench.spread.show_or_close,
            here.column,
        ),
        Command(
            "confidential",
            "Rows",
            "Leave the field out of re&ports",
            "Ctrl+Shift+X",
            window.match_reports.switch_field,
            here.field,
            text_now=lambda: menu_text(window.match_reports.switch_said()),
        ),
        Command(
            "field_steps",
            "Rows",
            "Add a step for this fie&ld…",
            "Ctrl+Alt+J",
            window.open_field_steps,
            here.field,
        ),
        Command(
            "only_like",
            "Rows",
            "&Only rows like this",
            "Ctrl+Alt+L",
            window.bench.keep_like,
            here.step_row,
        ),
        Command(
            "all_but",
            "Rows",
            "All &but these",
            "Ctrl+Alt+V",
            partial(window.bench.keep_like, but=True),
            here.step_row,
        ),
        Command(
            "copy_value",
            "Rows",
            "Copy the &value",
            "Ctrl+Shift+C",
            lambda: window.status.say(window.bench.grid.copy_value()),
            here.row,
        ),
        Command(
            "sort",
            "Rows",
            "&Sort the bench by this field",
            "Ctrl+L",
            window.bench.grid.sort_current,
            here.column,
        ),
        Command("next_band", "Rows", "&Next band", "Ctrl+Down", lambda: window.jump_to_band(1), here.bands),
        Command(
            "last_band", "Rows", "&Previous band", "Ctrl+Up", lambda: window.jump_to_band(-1), here.bands
        ),
    ]


def _view(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command("next_pane", "View", "&Next pane", "F6", window.next_pane),
        Command("attention", "View", "What needs &attention", "Ctrl+I", window.bench.attention.show_or_close),
        Command("find_step", "View", "&Find a step or field…", "Ctrl+Shift+G", window.open_step_finder),
        separator("View"),
        Command("larger", "View", "&Larger trellis", "Ctrl++", lambda: window.trellis.zoom_by(1)),
        Command("smaller", "View", "&Smaller trellis", "Ctrl+-", lambda: window.trellis.zoom_by(-1)),
        Command(
            "own_size", "View", "Trellis in its &own size", "Ctrl+0", lambda: window.trellis.set_zoom(1.0)
        ),
        Command("fit", "View", "Fit the &whole trellis", "Ctrl+9", window.trellis.fit),
        separator("View"),
        Command("bench_alone", "View", "&Bench alone", "F8", window.bench_alone),
        Command("memory", "View", "&Memory for results…", "Ctrl+Alt+Y", window.choose_memory),
        Command(
            "dark",
            "View",
            "&Dark theme",
            "Ctrl+Shift+D",
            window.switch_theme,
            text_now=lambda: "&Light theme" if theme().name == "dark" else "&Dark theme",
        ),
        Command("desktop_theme", "View", "The &desktop's theme", "Ctrl+Alt+Z", window.follow_desktop),
    ]


def _help(window: MainWindow, here: Here) -> list[Command]:
    return [
        Command("guide", "Help", "&Guide", "F1", window.helping.open_guide),
        Command("keys", "Help", "All &keys", "Ctrl+F1", window.helping.open_keys),
        Command("news", "Help", "What is &new", "", window.helping.open_news),
        separator("Help"),
        Command("places", "Help", "Where &logs and settings are…", "", window.helping.say_places),
        Command("report", "Help", "Save a &report…", "", window.reports.save),
        separator("Help"),
        Command("about", "Help", "&About Keen Trellis", "", window.helping.about),
    ]


def made_window(
    remembered: Remembered | None = None, library: Library | None = None, kept: Kept | None = None
) -> MainWindow:
    """A window with its commands, not yet shown."""
    window = MainWindow(remembered, library, kept)
    window.take_commands(all_commands(window))
    return window
