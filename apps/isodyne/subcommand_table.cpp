// Every command: its words, its help, an example that works, its options.

#include "subcommand.h"

namespace isodyne::app {

const std::vector<Subcommand>& commands() {
  using enum Option;
  static const std::vector<Subcommand> list = {
      {"check",
       "FILE",
       1,
       1,
       "check a bench or models and everything they use, without running them",
       "Reads the file and all files it uses and reports every mistake with its place and what to do, and warns of\n"
       "what looks wrong. With --rated, parts whose model states rated values are run to a steady state (or the "
       "stated\n"
       "time) under the rated conditions and compared; exit status 1 if one does not match.\n"
       "With --parameters, values that a controller was given are compared with the plant's, in whatever units; exit "
       "status 1 if one differs.",
       "isodyne check examples/canal-lock/lock.dyne",
       {rated, parameters, json, help},
       run_check},
      {"run",
       "BENCH [SCENARIO]",
       1,
       2,
       "run a scenario, judge it, and leave a folder with the evidence",
       "Runs as fast as possible and repeatably to the bit, or with --paced against the wall clock. The folder\n"
       "(runs/NNN-SCENARIO… unless --out names another) holds the recording, the verdicts as JSON and JUnit XML, the\n"
       "figures and report.html.",
       "isodyne run examples/canal-lock/lock.dyne uplock --fault level_drift",
       {fault, seed,  setting, with,  harness,      break_,        break_dump, save_state, from_state,       span,
        paced, speed, core,    cores, max_overruns, answer_within, out,        no_report,  go_on_unrecorded, interpret,
        open,  look,  strict,  json,  help},
       run_run},
      {"serve",
       "BENCH [SCENARIO]",
       1,
       2,
       "let a bench run without end and unattended, for whoever comes in",
       "Paced, open, and again from the beginning when it ended otherwise than by hand: a controller that was lost is waited for. "
       "Each run\nhas a new folder in that of --out (default: runs); its recording is in pieces, of which the oldest are dropped "
       "(--keep, --keep-size);\nevents are never dropped. The end of the scenario is not the end of the run. SIGTERM, Ctrl-C and "
       "`isodyne end` end it. With --continue it\nbegins with the levels, positions, modes and settings that the newest run ended with. To systemd it tells that it is ready and\ngoes on (docs/serve.md has a unit).",
       "isodyne serve examples/canal-lock/lock.dyne --setting model --for \"2 s\" --keep \"7 d\"",
       {fault, seed, setting, with, span, speed, core, cores, lockstep, answer_within, out, piece, piece_size, keep, keep_size,
        continue_, go_on_unrecorded, interpret, look, help},
       run_serve},
      {"campaign",
       "BENCH NAME",
       2,
       2,
       "run the cases of a campaign",
       "Each case is a run of its own, from a clean state, several at once. What they came to is in one file (--out; default:\n"
       "campaigns/NAME.sqlite), each as soon as it is known, so that it may be interrupted at any time and gone on with (--resume).\n"
       "Recordings that the campaign keeps are in campaigns/NAME, a run folder a case. Exit status 1: a case was broken; 3: some\n"
       "could not be run, did not come to their end, or are still to be done.",
       "isodyne campaign examples/canal-lock/lock.dyne nightly --jobs 2",
       {jobs, seed, out, resume, only, fail_fast, budget, each_alone, no_recordings, on, tasks, slurm, answer_within, help},
       run_campaign},
      {"cases",
       "FILE [worst [N] | near [N] | why [REQUIREMENT] | coverage | repeat CASE]",
       1,
       3,
       "look into the cases of a campaign",
       "How many of them held, were broken, and the worst of each requirement; with --requirement what came of that one, the\n"
       "smallest margin first; with --case all of one case. --where, --sort and --by choose, order and group them; --csv: every\n"
       "case, a row each, with all factors and margins; --json: all that is known of each. worst: the cases that are nearest the edge or beyond it; near: those\n"
       "that only just hold; why: which factors go with what is broken, and how much; coverage: what no case came to (modes,\n"
       "transitions, truths, faults, pairs of factors); repeat: one case as a run of its own, with recording and report, and\n"
       "whether it is the same.",
       "isodyne cases campaigns/nightly.sqlite why L-03",
       {requirement, where, sort, by, case_, csv, bench, out, no_report, json, strict, help},
       run_cases},
      {"failures",
       "BENCH [TABLE]",
       1,
       2,
       "tables of failure modes, and what runs say to each row",
       "Lists the rows, and what has no row or no fault. --run runs each failure by itself in its scenario, beside the scenario\n"
       "without it: mitigated (noticed, and requirements held), detected (noticed, and one was broken), missed (broken, and\n"
       "nobody noticed), harmless, not reached, no answer. Rows of a CSV file get that written back; what people wrote in it\n"
       "stays as it is. --out writes a table of its own, CSV or a workbook (.xlsx). --template says how a table begins.\n"
       "Exit status 1: a requirement was broken; 2: rows are wrong; 3: some runs gave no answer.",
       "isodyne failures examples/canal-lock/lock.dyne --run --out failures.xlsx",
       {run, out, csv, template_, setting, seed, jobs, each_alone, answer_within, help},
       run_failures},
      {"tree",
       "BENCH|FILE.xml [HAZARD]",
       1,
       2,
       "what leads to a hazard: minimal cut sets, probabilities, and what runs say to them",
       "Without a name: the hazards of the bench. Shows the minimal cut sets of its fault tree, the probability of the hazard,\n"
       "and which events matter. --prove runs every cut set of up to --order events in the scenarios of the hazard, and every\n"
       "combination of up to so many faults that is not in the tree: reaches it, does not reach it, not together (its faults\n"
       "exclude each other, or were not there at the same time), never came, no fault for it, no answer. FILE.xml: a tree in\n"
       "the Open-PSA format, HAZARD a gate of it. --out writes the picture (.svg), the tree (.xml, .dyne) or the table (.csv).\n"
       "Exit status 1: the hazard is reached by what is not in the tree, or without a fault; 3: some runs gave no answer.",
       "isodyne tree examples/canal-lock/lock.dyne open_against_head --prove --order 1 --setting model",
       {prove, order, most, mission, out, csv, setting, seed, jobs, each_alone, answer_within, help},
       run_tree},
      {"search",
       "BENCH REQUIREMENT",
       2,
       2,
       "look for the worst case: the smallest margin of a requirement, over numbers, faults and scenarios",
       "--over 'NAME from A to B' looks through a state, an input, a parameter, or a setting of a fault (FAULT.amount, FAULT.from,\n"
       "FAULT.lasting). --faults N takes up to N at a time of the faults that --fault names, or that --over is about, or of all.\n"
       "What breaks the requirement is made plainer, by fewer faults and rounder numbers, and --out writes it as a scenario.\n"
       "--seed draws other cases; that nothing is found proves nothing. Exit status 1: it was broken; 3: no run put it to the test,\n"
       "or not all were run.",
       "isodyne search examples/canal-lock/lock.dyne L-03 --scenario uplock --over 'level_drift.amount from 0.01 mm/s to 0.2 mm/s' "
       "--runs 20 --setting model",
       {over, fault, faults, scenario, runs, out, csv, setting, seed, jobs, answer_within, help},
       run_search},
      {"attach",
       "[RUN]",
       0,
       1,
       "watch and operate a run that goes on, in the terminal",
       "RUN is the folder of the run, begun with --open; USER@HOST:FOLDER one of another machine, through ssh; without it "
       "the newest of\nyours that is open. Shows the panels of the bench, a scope, signals, faults, requirements, events and "
       "timing; ? shows the keys.\nEverything that can be done there is a command of its own, too.",
       "isodyne attach runs/001-uplock",
       {tune, plain, relay, help},
       run_attach},
      {"read",
       "RUN NAME…",
       2,
       1000,
       "read quantities of a run that goes on, and was begun with --open",
       "RUN is the folder of the run. A NAME may be a pattern in which * stands for anything. Values are those of the "
       "last\ninstant that was shown.",
       "isodyne read runs/001-uplock chamber.level",
       {json, help},
       run_read,
       false,
       spoken_read},
      {"set",
       "RUN NAME VALUE",
       3,
       3,
       "set an input or a parameter of a run that goes on",
       "At its next instant. VALUE is a number with its unit, true or false, or a label. Says at which instant it was\n"
       "done; exit status 3 if the run refused it, 2 if it cannot be.",
       "isodyne set runs/001-uplock request up",
       {json, help},
       run_spoken,
       false,
       spoken_set},
      {"press",
       "RUN NAME",
       2,
       2,
       "press a button of a run that goes on, and let it go",
       "NAME is a truth: true at the next instant of the run, and false again when the simulated time of --over has "
       "passed. One that is\npressed already is held for longer.",
       "isodyne press runs/001-uplock barge_called --over \"2 s\"",
       {over, json, help},
       run_spoken,
       false,
       spoken_press},
      {"ramp",
       "RUN NAME VALUE",
       3,
       3,
       "move an input or a parameter of a run that goes on steadily to a value",
       "From its next instant on, within the time of --over.",
       "isodyne ramp runs/001-hold boiler.setpoint \"80 degC\" --over \"20 s\"",
       {over, json, help},
       run_spoken,
       false,
       spoken_ramp},
      {"release",
       "RUN NAME",
       2,
       2,
       "stop what `ramp` moves, where it is",
       "At the next instant of the run.",
       "isodyne release runs/001-hold boiler.setpoint",
       {json, help},
       run_spoken,
       false,
       spoken_release},
      {"inject",
       "RUN FAULT",
       2,
       2,
       "let a fault act in a run that goes on",
       "At its next instant. It is one that the run was begun with (--fault), and that begins `by hand`.",
       "isodyne inject runs/001-uplock pump_dead",
       {json, help},
       run_spoken,
       false,
       spoken_inject},
      {"clear",
       "RUN FAULT",
       2,
       2,
       "end a fault that acts in a run that goes on",
       "At its next instant.",
       "isodyne clear runs/001-uplock pump_dead",
       {json, help},
       run_spoken,
       false,
       spoken_clear},
      {"mark",
       "RUN NOTE",
       2,
       2,
       "put a note into the recording of a run that goes on",
       "At its next instant, as an event.",
       "isodyne mark runs/001-uplock \"the keeper looks up\"",
       {json, help},
       run_spoken,
       false,
       spoken_mark},
      {"load",
       "RUN SET|FILE",
       2,
       2,
       "set the values of a set in a run that goes on, all of them or none",
       "SET is one that the bench declares (`values NAME { … }`), with the values that its formulas have now; FILE has "
       "one, such as\n`isodyne values` writes it.",
       "isodyne load runs/001-hold tuned",
       {json, help},
       run_spoken,
       false,
       spoken_load},
      {"play",
       "RUN NAME TABLE",
       3,
       3,
       "let an input or a parameter of a run that goes on follow a table",
       "From its next instant on, to the end of the table or for the time of --over. TABLE is one of the bench with "
       "one argument.",
       "isodyne play runs/001-hold wind.speed gust",
       {over, json, help},
       run_spoken,
       false,
       spoken_play},
      {"arm",
       "RUN FAULT",
       2,
       2,
       "let the trigger of a fault `once` act again",
       "At the next instant of the run.",
       "isodyne arm runs/001-uplock gate_slow",
       {json, help},
       run_spoken,
       false,
       spoken_arm},
      {"disarm",
       "RUN FAULT",
       2,
       2,
       "switch the trigger of a fault `once` off",
       "At the next instant of the run.",
       "isodyne disarm runs/001-uplock gate_slow",
       {json, help},
       run_spoken,
       false,
       spoken_disarm},
      {"save",
       "RUN FILE",
       2,
       2,
       "store the state of a run in lockstep, for --from-state",
       "As it was shown last. Refused after more than values were set by hand: the state could not be reached again.",
       "isodyne save runs/001-uplock state.json",
       {json, help},
       run_spoken,
       false,
       spoken_save},
      {"wait",
       "RUN CONDITION",
       2,
       2,
       "wait until something comes true in a run that goes on",
       "It may be true already. Exit status 0: it came; 1: not --within that simulated time; 3: the run was over "
       "before. What was\nwaited for is an event of the run: `isodyne scenario --on-events` waits for it again.",
       "isodyne wait runs/001-uplock \"chamber.level > 3 m\" --within \"2 min\"",
       {within, json, help},
       run_wait,
       false,
       spoken_wait},
      {"watch",
       "RUN NAME…",
       2,
       1000,
       "print quantities of a run that goes on, again and again",
       "A line an update, with least and greatest since the one before; as CSV with --csv. Ends with the run, or --for "
       "so much\nsimulated time.",
       "isodyne watch runs/001-uplock chamber.level --csv",
       {per_second, span, csv, json, help},
       run_watch},
      {"capture",
       "RUN NAME…",
       2,
       1000,
       "keep what is around an instant of a run that goes on, at every instant",
       "From --before it to --after it: where --when comes true, or a requirement is --broken; else now. Written into "
       "the folder of\nthe run as CSV; with --out into that file too. Quantities of parts with shorter steps than the "
       "bench are seen at their own\ninstants where the bench records them so, or the run was begun with --look. What --judge names is judged over it anew:\na requirement that is broken here is exit status 1.",
       "isodyne capture runs/001-uplock \"upper.*\" --when \"chamber.level > 3 m\" --before \"1 s\" --after \"2 s\"",
       {when, broken, before, after, judge, again, out, json, help},
       run_capture,
       false,
       spoken_capture},
      {"verdicts",
       "RUN",
       1,
       1,
       "tell which requirements a run that goes on has broken so far",
       "What is broken is known some instants later; whether something held is known at the end.",
       "isodyne verdicts runs/001-uplock",
       {json, help},
       run_verdicts},
      {"timing",
       "RUN",
       1,
       1,
       "tell how a paced run that goes on keeps to the wall clock",
       "Late steps, how late steps begin and how long they take, and what there was with each controller.",
       "isodyne timing runs/001-uplock",
       {json, help},
       run_timing},
      {"pause",
       "RUN",
       1,
       1,
       "let a run in lockstep stand",
       "After the instant that it is at. `step` and `go-on` move it.",
       "isodyne pause runs/001-uplock",
       {json, help},
       run_spoken,
       false,
       spoken_pause},
      {"step",
       "RUN [N]",
       1,
       2,
       "let a run that stands make one step of the bench, or N",
       "Then it stands again.",
       "isodyne step runs/001-uplock 10",
       {json, help},
       run_spoken,
       false,
       spoken_step},
      {"go-on",
       "RUN",
       1,
       1,
       "let a run that stands go on",
       "As fast as it can, as before.",
       "isodyne go-on runs/001-uplock",
       {json, help},
       run_spoken,
       false,
       spoken_go_on},
      {"end",
       "RUN",
       1,
       1,
       "end a run that goes on",
       "After the instant that it is at, with verdicts and report as ever; its ending is `interrupted`.",
       "isodyne end runs/001-uplock",
       {json, help},
       run_spoken,
       false,
       spoken_end},
      {"events",
       "RUN",
       1,
       1,
       "tell what has happened in a run that goes on",
       "Faults, modes, commands, broken requirements … With --follow also what happens from now on.",
       "isodyne events runs/001-uplock --follow",
       {follow, json, help},
       run_events},
      {"scenario",
       "RUN",
       1,
       1,
       "write what was done to a run by hand as a scenario of the language",
       "Values that were set or moved, faults, notes: at the same instants, beside the scenario that the run played. "
       "With\n"
       "--on-events it waits where the operator waited. Of a run in lockstep the scenario gives the same recording, to "
       "the "
       "bit.\n"
       "Printed, or with --out added to a file.",
       "isodyne scenario runs/001-uplock --name morning --out scenarios.dyne",
       {name, on_events, out, help},
       run_scenario},
      {"values",
       "RUN",
       1,
       1,
       "write what was changed in a run by hand as a set of values",
       "As they were at the end, for `load NAME` in a scenario, or `isodyne load`. Printed, or with --out added to a "
       "file.",
       "isodyne values runs/001-hold --name tuned --out values.dyne",
       {name, out, help},
       run_values},
      {"realtime-check",
       "",
       0,
       0,
       "measure what this machine can do for runs that keep to the wall clock",
       "Which rights it grants, how often it interrupts, how late it wakes, and which steps it keeps, by trying; with "
       "advice\n"
       "where something is in the way. Each measurement takes --for (default 1 s). Exit status 4 if it keeps no step.",
       "isodyne realtime-check --for \"100 ms\"",
       {span, core, json, help},
       run_realtime_check},
      {"reference",
       "BENCH [SCENARIO]",
       1,
       2,
       "run a scenario with an adaptive solver at tight tolerance: the yardstick for steps",
       "The same run, but for the continuous parts: they are integrated together, with relative tolerance 1e-10, and\n"
       "transitions, `when` blocks and limits are found where they happen, not at the next step. Stored like any run.",
       "isodyne reference examples/canal-lock/lock.dyne uplock --for \"30 s\"",
       {fault, seed, setting, with, harness, span, answer_within, out, no_report, strict, json, help},
       run_reference},
      {"advise",
       "BENCH [SCENARIO]",
       1,
       2,
       "say which step and method this bench needs, by measurement",
       "Runs the scenario with a ladder of steps and methods and compares each with the reference: largest and RMS "
       "error\n"
       "of each signal, observed order, cost of a step, share of the period. Recommends the largest step whose errors\n"
       "stay within the tolerance, or says that none does and which part is the stiff one. With --out, a figure.",
       "isodyne advise examples/quay-hoist/hoist.dyne lift_and_lower --out advice",
       {fault, seed, setting, span, answer_within, signal, tolerance, out, json, help},
       run_advise,
       true},
      {"profile",
       "BENCH [SCENARIO]",
       1,
       2,
       "measure what a step costs, and where the time goes",
       "Runs the scenario as fast as possible and times each step: median, 99th percentile and longest, the share of "
       "each\n"
       "period, the headroom to expect in real time, and the cost of each part. Of each network: what a step of it "
       "takes,\n"
       "and in which combinations of its switches and diodes it was.",
       "isodyne profile examples/canal-lock/lock.dyne uplock --for \"60 s\"",
       {fault, seed, setting, span, answer_within, interpret, json, help},
       run_profile,
       true},
      {"report",
       "RUN… | CASES",
       1,
       1000,
       "write one report about one or several run folders, or about the cases of a campaign",
       "Writes one HTML file that needs nothing else (in the run folder, or report.html for several runs, unless "
       "--out\n"
       "names another): verdicts, plots that zoom and move together, events, timing, what nothing covers, sources. "
       "The\n"
       "figures of the runs are drawn again. Of the cases of a campaign (campaigns/NAME.sqlite): faults against requirements,\n"
       "margins over what was varied, which factors go with what is broken, distributions, coverage, and every case with the\n"
       "command that runs it again.",
       "isodyne report runs/001-uplock runs/002-uplock-level_drift --out lock.html",
       {out, pdf, help},
       run_report},
      {"show",
       "RUN [SIGNAL…]",
       1,
       100,
       "draw signals of a run in the terminal",
       "RUN is a run folder, or a recording. A SIGNAL may be a pattern in which * stands for anything; without one, "
       "what\n"
       "the figures of the bench show is drawn. Every value counts: nothing between two columns is left out.",
       "isodyne show runs/001-uplock chamber.level",
       {from, to, ascii, help},
       run_show},
      {"figure",
       "RUN… [SIGNAL…]",
       1,
       100,
       "draw signals of a run, or of several runs over each other",
       "Signals with the same unit share a panel, truths are lanes; a SIGNAL may be a pattern in which * stands for\n"
       "anything. Of one run: faults, broken requirements and what the scenario did are marked. Thinned to what the\n"
       "picture can show, without losing an extreme. Limits of requirements are dashed. --out names the files: "
       "BASE.png, .svg\n"
       "and .pdf (figure).",
       "isodyne figure runs/001-uplock \"chamber.*\" upper_gate --out chamber",
       {as, from, to, around, before, after, closer, response, layout, out, help},
       run_figure},
      {"compare",
       "RUN RUN…",
       2,
       100,
       "say what differs between runs, signal by signal",
       "Compares every RUN with the first: which signals are equal to the bit, within what --allow grants them, or "
       "differ,\n"
       "from when on and by how much; and what differs in sources, seed, version and the like. Where their instants "
       "are "
       "not\n"
       "the same, those of the coarser one are compared. With --out, a figure of the first difference. Exit status 1 "
       "if\n"
       "something differs: a signal, their beginnings or ends, how they ended, or how often they were recorded.",
       "isodyne compare runs/001-uplock runs/002-uplock-level_drift --allow \"chamber.level=1 cm within 0.1 s\"",
       {allow, align, common, out, json, help},
       run_compare},
      {"repeat",
       "RUN",
       1,
       1,
       "run a recorded run again, and say whether it is the same to the bit",
       "Everything is taken from the recording: the texts of the bench and of the library as they were, scenario, "
       "faults,\n"
       "seed, setting. Only controllers are those of today, in the folder of the bench. Says what differs first, and "
       "why\n"
       "that is likely so. Exit status 1 if something differs.",
       "isodyne repeat runs/001-uplock",
       {folder, trust, out, json, help},
       run_repeat},
      {"recover",
       "RUN",
       1,
       1,
       "make a recording whole whose run was killed",
       "Our own commands read such a recording as it is, up to a tenth of a second before the end; other tools may\n"
       "need this first. What was in the tail beside it goes into the file, which then is as if the run had closed "
       "it,\n"
       "only that it has no ending.",
       "isodyne recover runs/001-uplock",
       {json, help},
       run_recover},
      {"pack",
       "RUN",
       1,
       1,
       "make one file of a run to hand over: evidence, texts, controllers",
       "Writes RUN.zip, or what --out names. Whoever unpacks it reads report.html in any browser, and repeats the run "
       "with\n"
       "`isodyne repeat . --folder bench`.",
       "isodyne pack runs/001-uplock --out uplock.zip",
       {folder, out, help},
       run_pack},
      {"baseline accept",
       "RUN…",
       1,
       1000,
       "keep runs as what later ones have to be like",
       "Copies each recording into the folder `baseline` (or that of --folder), under its bench, scenario, faults, "
       "setting,\n"
       "seed and whatever else was asked of the run (--for, --paced, …). What --allow grants belongs to it. One that "
       "is there already is replaced.",
       "isodyne baseline accept runs/001-uplock --allow \"*=0.1 %\"",
       {allow, folder, help},
       run_baseline_accept},
      {"baseline check",
       "RUN…",
       1,
       1000,
       "compare runs with those that were accepted",
       "Each with the accepted run of the same bench, scenario, faults, setting and seed. Exit status 1 if one "
       "differs, 2 if\n"
       "nothing like it was accepted.",
       "isodyne baseline check runs/001-uplock",
       {allow, folder, json, help},
       run_baseline_check},
      {"runs",
       "[WORD…]",
       0,
       20,
       "list the runs of this user, and find one again",
       "Every run is entered into a catalogue: bench, scenario, faults, seed, verdicts, how long it took, and where it "
       "is.\n"
       "Each WORD has to be part of something of it: `isodyne runs uplock broken`. Folders that were moved or deleted "
       "are\n"
       "marked as missing. The catalogue is in $XDG_DATA_HOME/isodyne, or ~/.local/share/isodyne.",
       "isodyne runs uplock",
       {last, json, help},
       run_runs},
      {"runs tag",
       "RUN TAG…",
       2,
       20,
       "give a run names of your own, which also keep it from being pruned",
       "RUN is a folder in the catalogue.",
       "isodyne runs tag runs/001-uplock accepted",
       {remove, help},
       run_runs_tag},
      {"runs prune",
       "[WORD…]",
       0,
       20,
       "delete run folders that fit, and forget those that are missing",
       "Says what would be deleted; --yes deletes it. Runs with tags stay.",
       "isodyne runs prune missing",
       {yes, help},
       run_runs_prune},
      {"judge",
       "RUN [RULES]",
       1,
       2,
       "judge a recorded run again, by its own requirements or by others",
       "RUN is a run folder or a recording. RULES is a file with requirements, expectations, conditions and measures, "
       "which take\n"
       "the place of the bench's own requirements; without it they are asked again, and answer as they did in the run. "
       "With --out,\n"
       "the verdicts are written into that folder. Exit status as of `run`.",
       "isodyne judge runs/001-uplock --json",
       {out, strict, json, help},
       run_judge},
      {"measure",
       "RUN [MEASURE…]",
       1,
       50,
       "measure a recorded run: rise, settling, overshoot, RMS, energy, harmonics …",
       "MEASURE is the name of one that the bench declares, or one written out. Without any: all of the bench. Every "
       "stretch that\n"
       "is measured gives a row.",
       "isodyne measure runs/001-uplock \"of chamber.level  most\"",
       {json, help},
       run_measure},
      {"faults",
       "BENCH [RUN…]",
       1,
       1000,
       "list everything that can break: place, trigger, what names it, which scenario gets there",
       "Times and injections by hand are told at once; whether a condition comes true takes a run of every scenario: "
       "--try.\n"
       "Named by: requirements that read whether it acts. Caught by: requirements that it broke in the RUNs that are "
       "named.",
       "isodyne faults examples/canal-lock/lock.dyne",
       {try_, setting, seed, csv, json, help},
       run_faults,
       true},
      {"trace",
       "RUN…",
       1,
       1000,
       "show which requirement was judged in which run with which fault, and what nothing covers",
       "The matrix of requirements and runs, then requirements that no run put to the test, faults never injected, "
       "scenarios never\n"
       "played. With --out, also as trace.csv and trace.svg in that folder. Exit status 1 if a requirement is broken; "
       "with --strict,\n"
       "also if one does not hold in any run.",
       "isodyne trace runs/001-uplock runs/002-uplock-level_drift",
       {out, csv, strict, json, help},
       run_trace},
      {"import",
       "WHAT FILE",
       2,
       2,
       "take over what others wrote: measurements as a run, requirements as text",
       "WHAT is `csv`, `comtrade` or `vcd`: what was measured elsewhere becomes a run (runs/NNN-FILE, or the folder of "
       "--out) that\n"
       "is shown, compared and judged like our own. Its signals are inputs of a bench called Imported. CSV has the "
       "time in "
       "the\n"
       "first column and units in the header: \"t [s],level [m]\"; COMTRADE is two files beside each other.\n"
       "WHAT is `reqif`: prints the requirements of an exchange file, or writes them into the new file that --out "
       "names.\n"
       "Identifiers are kept; what has no formula is `by review` until somebody writes one.",
       "isodyne import csv examples/canal-lock/chamber-measured.csv",
       {out, help},
       run_import},
      {"list",
       "FILE [KIND|NAME…]",
       1,
       20,
       "list what a bench is made of, or say what a name means",
       "Kinds: parts, states, parameters, signals, nodes, channels, frames, cables, controllers, conditions, faults, "
       "scenarios,\n"
       "requirements, measures, harnesses, figures, panels, campaigns, failures, events, hazards. Without one: all. A name (`chamber.level`, `chamber`, `plc`) is "
       "explained: where it comes from, its\nunit, its equation, and who reads it. With --tree: the parts inside each "
       "other; with --timing: "
       "steps,\nmethods, periods, and the delay that crossing between groups costs; SCENARIO --timeline: what is due "
       "when.",
       "isodyne list examples/canal-lock/lock.dyne chamber.level",
       {tree, timing, timeline, json, help},
       run_list},
      {"draw",
       "BENCH [PART]",
       1,
       2,
       "draw the parts, channels and controllers of a bench and what flows between them, or a circuit",
       "Writes an SVG (BENCHNAME.svg here, unless --out names another file, also .png or .pdf). Graphviz sets the "
       "picture out.\n"
       "With --circuit: the elements of a circuit with their names and values. Its nodes are level lines, and each\n"
       "element stands between the lines of its two nodes; a dot is a connection, a crossing without one is none.",
       "isodyne draw examples/quay-link/link.dyne dc --circuit --out dc.svg",
       {circuit, out, help},
       run_draw},
      {"format",
       "FILE…",
       1,
       1000,
       "give texts their usual form: indentation, blanks, empty lines",
       "Rewrites the files. Comments, line breaks and what was aligned by hand stay; the meaning never changes. A "
       "file\n"
       "with mistakes is left alone.",
       "isodyne format --check examples/canal-lock/plant.dyne",
       {check, help},
       run_format},
      {"io list",
       "BENCH [GROUP|NAME…]",
       1,
       20,
       "list the channels of the racks: where they are and what they carry",
       "All channels in use, or those of a group, a rack, or with a name. With --json, free ones too.",
       "isodyne io list examples/canal-lock/lock.dyne levels",
       {json, help},
       run_io_list},
      {"io groups",
       "BENCH",
       1,
       1,
       "list the groups of channels",
       "A channel may belong to any number of groups, and a group may cut across modules.",
       "isodyne io groups examples/canal-lock/lock.dyne",
       {json, help},
       run_io_groups},
      {"io free",
       "BENCH",
       1,
       1,
       "list the channels that carry nothing, and signals without a channel",
       "",
       "isodyne io free examples/canal-lock/lock.dyne",
       {json, help},
       run_io_free},
      {"io bind",
       "BENCH CHANNEL [NAME [VALUE]]",
       2,
       4,
       "put a signal on a channel, in the text of the bench",
       "CHANNEL is RACK.SLOT.NUMBER (the rack may be left out where there is one). NAME is a sensor or actuator, or "
       "new: with a\n"
       "VALUE (a constant, a signal, a table: \"12 mA\", \"day(time)\") the rack makes a sensor of it; on an output, "
       "--unit makes an\n"
       "actuator. Only that statement of the text changes; a change that `check` refuses is not written.",
       "isodyne io bind examples/canal-lock/lock.dyne 1.8 tide \"12 mA\" --groups spare --out bound",
       {groups, range, unit, off, remove, out, help},
       run_io_bind},
      {"io table",
       "BENCH",
       1,
       1,
       "write the racks as a table, or take changes from one",
       "Prints all channels; with --csv as a table for a spreadsheet (--out writes it to a file). With --take, what "
       "differs "
       "between the table and\n"
       "the text is changed in the text: comments, order and everything else stay. Commas, semicolons and tabs are "
       "read.\n"
       "With --take and --out, the changed files go into that folder instead.",
       "isodyne io table examples/canal-lock/lock.dyne --csv",
       {csv, take, out, help},
       run_io_table},
      {"io loopback",
       "BENCH [CABLES|WIRING]",
       1,
       2,
       "drive every output, read the input wired to it, and say what is wrong with the wires",
       "Each output of the cable list is walked through both ends, zero and a pattern of its own; every input is read. "
       "A wire is good,\n"
       "open, crossed (with which other), inverted, scaled (by which factor), noisy or dead. Without --setting the "
       "wires are simulated:\n"
       "as the cable list says, or as a `wiring` of the bench does. Exit status 1 if one is not good.",
       "isodyne io loopback examples/swing-bridge/bridge.dyne plug",
       {setting, seed, json, help},
       run_io_loopback,
       true},
      {"io registers",
       "BENCH [CONTROLLER]",
       1,
       2,
       "write a register map for a controller on Modbus, to begin with",
       "One row a value: table, address (from 0), type; and perhaps the order of words, a unit and a factor. Values to "
       "the\n"
       "controller go to discrete inputs and input registers, values from it to coils and holding registers. Edit it "
       "to\n"
       "what the controller has, and name it in the setting: modbus server \"127.0.0.1:1502\" map \"registers.csv\".",
       "isodyne io registers examples/canal-lock/lock.dyne",
       {out, help},
       run_io_registers},
      {"io match",
       "BENCH [CONTROLLER]",
       1,
       2,
       "match a controller's own tag list to the channels",
       "Proposes a tag for each channel by the parts of their names, their comments, unit, direction and type, with a "
       "score; lists what is left\n"
       "over, there twice, or of the wrong type, unit or direction. --out writes the table; where it is there already, "
       "rows in it whose state is\n"
       "`confirmed` stay as they are, and what changed since is listed. Exit status 1 if something is left to be "
       "looked at.",
       "isodyne io match examples/canal-lock/lock.dyne --out map.csv",
       {tags, out, json, help},
       run_io_match},
      {"io layout",
       "BENCH [FRAME]",
       1,
       2,
       "show the bits of a frame, and which bytes some values give",
       "Every bit of every word with what it holds, a table of the fields, and a worked example: these values give "
       "these\n"
       "bytes. With --out, also as pictures (FRAME.svg and FRAME.png in that folder).",
       "isodyne io layout examples/swing-bridge/bridge.dyne box_in",
       {out, json, help},
       run_io_layout},
      {"explain",
       "[CODE]",
       0,
       1,
       "explain a message by its code: cause, example, cure",
       "The code stands in brackets at the end of a message. Without one: all codes.",
       "isodyne explain algebraic-loop",
       {help},
       run_explain},
      {"new",
       "FOLDER",
       1,
       1,
       "start a bench: a small commented one that runs",
       "Makes the folder and writes bench.dyne, plant.dyne and a README into it.",
       "isodyne new my-bench",
       {help},
       run_new},
      {"export",
       "WHAT [BENCH|RUN [CONTROLLER|SIGNAL…]]",
       1,
       1000,
       "write files for others: recordings, the C header of a controller, the model as C, requirements",
       "WHAT is `header`: the structs that the controller reads and writes, with names, units and checks of their "
       "layout;\n"
       "`layout`: the same as JSON, for controllers in other languages (clients/isodyne_link.py reads it);\n"
       "`c`: the plant as C11 free of dependencies, with a main program and a Makefile, in the folder that --out names "
       "(BENCHNAME-c);\n"
       "`reqif`: the requirements in the open exchange format (ReqIF 1.2), with the identifiers that they came with;\n"
       "`csv`, `comtrade` or `vcd`: signals of a RUN, or all of them (COMTRADE is two files; --binary: its binary "
       "form);\n"
       "`textmate` or `vim`: the language for editors. What is one file goes to standard output unless --out names it.",
       "isodyne export header examples/canal-lock/lock.dyne",
       {binary, out, help},
       run_export},
      {"help", "[COMMAND]", 0, 2, "explain a command", "", "isodyne help run", {help}, run_help},
  };
  return list;
}

}  // namespace isodyne::app
