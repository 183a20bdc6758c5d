# Every argument of every exported verb with bad values: a classed error, or a use that was looked at and is listed in
# fuzz-accepted.csv. What fails otherwise is a bug.

# A small world in which every verb has a call that works. Values for arguments which others need to be there are in
# the calls. Each call is a list of arguments; names of verbs may repeat.
fuzz_calls <- function() {
  data <- many_crews(120, seed = 3)
  data$id <- seq_len(120)
  data$gear <- rep(c("net", "line", "pot"), 40)
  data$known <- ifelse(data$id %% 9 == 0, NA, data$income)
  crews <- frame_study(data, "joined", c("income", "direct", "known"), ~ boat + past + port, weight = "s", cluster = "harbour")
  plain <- frame_study(data, "joined", "income", c("boat", "past"))
  lasting <- frame_study(more_outcomes(120, seed = 4), "joined", c("months", "left"), c("boat", "past"))
  scored <- score_units(plain)
  weighed <- weigh_units(scored)
  pairs <- pair_units(scored)
  effect <- measure_effect(weighed)
  paired <- measure_effect(pairs)
  panel <- harbour_panel(many_harbours(16))
  cells <- measure_did(panel)
  path <- summarise_did(cells, "event")
  graph <- assume_graph("digraph { port -> joined; port -> income; joined -> income; wind -> joined }")
  arms <- frame_arms(data, "gear", "income", c("boat", "past"), reference = "net")
  chances <- score_units(frame_arms(data, "gear", "income", c("boat", "past"), reference = "net", estimand = "ATE"))
  dosed <- weigh_units(score_units(frame_dose(data, "past", "income", c("boat", "port"))))
  course <- data.frame(unit = rep(1:60, 2), time = rep(1:2, each = 60), size = rep(1:60 %% 7, 2), debt = (1:120 * 7) %% 11,
                       a = as.integer((1:120 * 13) %% 17 > 8), y = (1:120 * 5) %% 13)
  coursed <- weigh_units(score_units(frame_course(course, "a", "y", "time", "unit", covariates = "size", changing = "debt")))
  folder <- tempfile("fuzz")
  dir.create(folder)
  csv <- file.path(folder, "d.csv")
  data.table::fwrite(data, csv)
  runs <- file.path(folder, "runs")
  dir.create(runs)
  writeLines("study: {data: d.csv}", file.path(runs, "plan.yml"))
  writeLines("{version: '1', made: today, data: {file: d.csv, md5: abc, rows: 1, used: 1}, fingerprint: x}",
             file.path(runs, "run-facts.yml"))
  connection <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  DBI::dbWriteTable(connection, "crews", as.data.frame(data))
  list(
    frame_study = list(data = data, treatment = "joined", outcome = "income", covariates = c("boat", "past", "port")),
    frame_arms = list(data = data, treatment = "gear", outcome = "income", covariates = c("boat", "past"), reference = "net"),
    frame_panel = list(data = many_harbours(12), outcome = "price", time = "year", unit = "harbour", treatment = "open"),
    frame_dose = list(data = data, dose = "past", outcome = "income", covariates = "boat"),
    frame_course = list(data = course, treatment = "a", outcome = "y", time = "time", unit = "unit", covariates = "size", changing = "debt"),
    measure_response = list(x = dosed, doses = c(-0.5, 0, 0.5)), measure_course = list(x = coursed),
    baseline_rows = list(panel = panel),
    score_units = list(x = plain), trim_units = list(x = scored), pair_units = list(x = scored),
    group_units = list(x = scored), pair_units = list(x = chances, replacement = TRUE),
    group_units = list(x = chances), stratify_units = list(x = scored), weigh_units = list(x = scored),
    weigh_responses = list(x = weigh_units(score_units(crews)), outcome = "known"),
    search_metric = list(x = plain, generations = 1, population = 4),
    assess_balance = list(x = weighed), assess_overlap = list(x = scored), assess_score = list(x = scored),
    compare_scores = list(x = list(logit = scored, probit = score_units(plain, link = "probit"))),
    assess_weights = list(x = weighed), assess_power = list(x = plain), describe_groups = list(study = plain),
    assess_responses = list(x = weigh_responses(weigh_units(score_units(crews)), "known")),
    assess_trends = list(panel = panel), assess_composition = list(panel = landing_panel(many_landings(n = 16), covariates = "boat")), design_data = list(design = weighed), pairs_of = list(design = pairs),
    measure_effect = list(x = weighed), measure_hazard = list(x = weigh_units(score_units(lasting)), time = "months", event = "left"),
    measure_variation = list(x = plain, learners = "logit", folds = 3),
    measure_model = list(design = plain, model = lm(income ~ joined + boat, data)),
    measure_did = list(panel = panel), summarise_did = list(x = cells), decompose_did = list(panel = panel),
    compare_effects = list(weights = effect, pairs = paired), contrasts_of = list(x = measure_effect(arms)),
    probe_choices = list(x = effect, limit = 4), probe_effect = list(x = effect, draws = 20), probe_omitted = list(x = measure_effect(plain, estimator = "regression")),
    probe_pairs = list(x = paired), probe_placebo = list(x = effect, outcomes = "past"),
    probe_ratio = list(x = effect), probe_stability = list(x = effect),
    probe_trends = list(x = path), probe_stand_ins = list(x = measure_did(panel, estimator = "synthetic"), most = 2), probe_weights = list(x = effect, draws = 20),
    assume_graph = list(edges = "digraph { a -> b; b -> c }"), as_dot = list(graph = graph), sets_to_adjust = list(graph = graph, exposure = "joined", outcome = "income"),
    explain_set = list(graph = graph, exposure = "joined", outcome = "income", set = "port"),
    testable_claims = list(graph = graph), test_claims = list(graph = assume_graph("digraph { boat -> joined; boat -> past }"), data = data),
    simulate_units = list(n = 50), logbook = list(x = plain),
    export_table = list(x = assess_balance(weighed), file = file.path(folder, "t.csv")),
    write_units = list(data = data, path = file.path(folder, "u.csv")), read_units = list(path = csv),
    remote_units = list(connection = connection, table = "crews"), remote_shards = list(shards = list(connection), table = "crews"), fetch_units = list(x = remote_units(connection, "crews"), n = 5),
    plan_reference = list(),
    methods_text = list(x = list(effect, probe_ratio(effect))), checklist = list(x = effect), references = list(x = effect),
    theme_twin = list(), knit_result = list(x = effect), compare_runs = list(old = runs, new = runs),
    write_report = list(file = file.path(folder, "r.html"), study = plain)
  )
}

# Values that hardly any argument means. Named, so that what was accepted can be listed.
bad_values <- function() {
  list(
    "NULL" = NULL, "NA" = NA, "NA text" = NA_character_, "NaN" = NaN, "Inf" = Inf, "-Inf" = -Inf, "0" = 0, "-1" = -1, "0.5" = 0.5,
    "2" = 2, "1e300" = 1e300, "1e-300" = 1e-300, "2^31" = 2^31, "-0.1" = -0.1, "1L" = 1L, "TRUE" = TRUE, "FALSE" = FALSE, "empty text" = "",
    "text" = "zzz", "braces" = "{x} {.val y}", "markup" = "<b>&amp;</b>", "percent" = "%s %d", "quote" = "a'b\"c\\", "new line" = "a\nb",
    "umlaut" = "Gr\u00f6\u00dfe", "latin1" = rawToChar(as.raw(c(0x47, 0xf6))), "long text" = strrep("x", 1e5),
    "texts" = c("a", "b"), "NA texts" = c("a", NA), "numbers" = c(1, 2, 3), "NA numbers" = c(1, NA), "flags" = c(TRUE, FALSE), "no text" = character(),
    "no numbers" = numeric(), "no flags" = logical(), "named number" = c(a = 1), "named text" = c(a = "boat"), "list()" = list(),
    "list(1)" = list(1), "named list" = list(a = 1, b = "x"), "nested list" = list(list(list(NULL))), "function" = function(...) 1, "sum" = sum,
    "environment" = globalenv(), "formula" = ~zzz, "wrong formula" = y ~ x, "odd formula" = ~"x", "call" = quote(f(x)),
    "symbol" = quote(x), "data frame" = data.frame(a = 1:2), "empty data frame" = data.frame(), "matrix" = matrix(1:4, 2),
    "factor" = factor("a"), "date" = as.Date("2020-01-01"), "complex" = 1i, "raw" = as.raw(1), "huge" = seq_len(1e6) / 7,
    "strange class" = structure(1, class = "zzz"), "integer64" = structure(4.94065645841247e-324, class = "integer64"),
    "formula call" = ~ nosuch(boat), "as-is" = ~ I(boat[1:3])
  )
}

# One bad value in one place: "error" (classed), "raw: ..." or "accepted"; slow ones are cut after `seconds`.
try_bad <- function(verb, arguments, arg, value, seconds = 20) {
  arguments[arg] <- list(value)
  result <- tryCatch(suppressMessages(suppressWarnings({
    setTimeLimit(elapsed = seconds, transient = TRUE)
    on.exit(setTimeLimit())
    utils::capture.output(print(do.call(verb, arguments, quote = TRUE)))
    "accepted"
  })), twin_error = function(e) "error", error = function(e) paste("raw:", gsub("\\s+", " ", conditionMessage(e))))
  setTimeLimit()
  result
}

# Every (verb, argument, value) there is.
fuzz_places <- function(calls, values) {
  own <- lapply(names(calls), function(verb) {
    arguments <- setdiff(names(formals(getExportedValue("carefultwin", verb))), "...")
    data.frame(verb, expand.grid(arg = arguments, value = names(values), stringsAsFactors = FALSE))
  })
  do.call(rbind, own)
}

run_fuzz <- function(places, calls, values, seconds = 20) {
  places$result <- vapply(seq_len(nrow(places)), function(k) {
    at <- places[k, ]
    try_bad(getExportedValue("carefultwin", at$verb), calls[[at$verb]], at$arg, values[[at$value]], seconds)
  }, "")
  places
}

# A text with a few things done to it that hands and programs do. Lines in, lines out.
mutate_lines <- function(lines, seed) {
  withr::with_seed(seed, {
    for (k in seq_len(sample(1:4, 1))) {
      at <- sample.int(length(lines), 1)
      other <- sample.int(length(lines), 1)
      line <- lines[at]
      place <- sample.int(nchar(line) + 1, 1)
      piece <- sample(c("\"", "'", ":", ",", "[", "]", "{", "}", "-", "~", "!", "&a", "*a", "#", "\t", "  ", "1e308", "NA", "null", "true",
                        "\u00e4", "\\", ";", "->", "%s", "{x}", "<b>", "@", "|", ">", "0x", "..", "=1+1", "\001"), 1)
      lines <- switch(
        sample(c("insert", "delete", "cut", "drop", "twice", "swap", "replace", "indent"), 1),
        insert = replace(lines, at, paste0(substr(line, 1, place - 1), piece, substr(line, place, nchar(line)))),
        delete = replace(lines, at, paste0(substr(line, 1, place - 1), substr(line, place + sample(1:5, 1), nchar(line)))),
        cut = replace(lines, at, substr(line, 1, place - 1)),
        drop = if (length(lines) > 1) lines[-at] else lines,
        twice = append(lines, line, at),
        swap = replace(lines, c(at, other), lines[c(other, at)]),
        replace = replace(lines, at, sub("[A-Za-z0-9_.]+", piece, line)),
        indent = replace(lines, at, paste0(strrep(" ", sample(0:4, 1)), trimws(line)))
      )
    }
    lines
  })
}

# What becomes of it: "error" (classed), "fine" or "raw: ...".
try_mutant <- function(kind, lines, seconds = 20) {
  folder <- tempfile("mutant")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE))
  file <- file.path(folder, c(plan = "plan.yml", csv = "d.csv", dot = "g.dot")[[kind]])
  data <- utils::head(many_crews(80), 60)
  data$id <- seq_len(60)
  data$chance <- stats::plogis(data$boat)
  if (kind == "plan") data.table::fwrite(data, file.path(folder, "data.csv"))
  writeLines(lines, file, useBytes = TRUE)
  tryCatch(suppressMessages(suppressWarnings({
    setTimeLimit(elapsed = seconds, transient = TRUE)
    switch(kind, plan = {
      plan <- read_plan(file)
      study <- plan_study(plan)
      plan_groups(plan, study_of(study))
      designs <- two_arm_designs(plan_designs(plan, study))
      plan_balances(plan, designs)
    }, csv = frame_study(read_units(file), "joined", "income", c("boat", "port")), dot = assume_graph(file))
    "fine"
  })), twin_error = function(e) "error", error = function(e) paste("raw:", gsub("\\s+", " ", conditionMessage(e))),
  finally = setTimeLimit())
}

mutant_originals <- function() {
  folder <- plan_folder()
  csv <- readLines(file.path(folder, "data.csv"))[1:61]
  list(plan = readLines(file.path(folder, "plan.yml")), csv = csv,
       dot = c("digraph {", "  port -> joined; port -> income", "  joined -> income", "  wind [unobserved]", "  wind -> {joined income}", "}"))
}

# ---- every key of a plan, with bad values as YAML writes them ----

bad_yaml <- function() {
  c("~", "[]", "{}", "[[]]", "[{}]", "hello", "{a: 1}", "{a: {b: c}}", "1/0", ".inf", "-.inf", ".nan", "-1", "0", "0.5", "-0.1", "2",
    "1e300", "1e-300", "2147483648", "99999999999999999999", "true", "false", "yes", "[true, false]", "[1, a]", "[~]", "[.nan, 1]", "[0.5, 0.5]",
    "[3, 1]", "''", "' '", "'<b>&amp;</b>'", "'{x} {.val y}'", "'%s %d'", "\"a\\nb\"", "\"it's \\\"said\\\"\"", "2020-01-01", "\"~ zzz\"",
    "\"~ nosuch(boat)\"", "\"~ boat +\"", "\"y ~ x\"", "\"boat > \"", "\"system('x')\"", "0x1F", "1_000", "\"Gr\u00f6\u00dfe\"", "[income, income]",
    "joined", "data.csv", "/no/such/place", "[boat, past, port, harbour]", strrep("x", 5000))
}

# For each part of a plan: what must be there, and the lines around it with FLOW in its place.
plan_settings <- function() {
  study <- "study: {data: data.csv, treatment: joined, outcome: [income, months, left, known], covariates: [boat, past]}"
  weighed <- c(study, "designs: {d: [score, weigh], p: [score, pair]}")
  measured <- c(weighed, "effects: {e: {design: d}, q: {design: p}, r: {estimator: regression}}")
  panel <- "panel: {data: panel.csv, outcome: price, time: year, unit: harbour, treatment: open}"
  dose <- c("study: {data: data.csv, dose: past, outcome: income, covariates: [boat]}", "designs: {d: [score, weigh]}")
  course <- c("study: {data: course.csv, treatment: a, outcome: y, time: time, unit: unit, changing: [debt]}", "designs: {w: [score, weigh]}")
  step <- function(before, name) c(study, sprintf("designs: {d: [%s{%s: FLOW}]}", before, name))
  parts <- list(
    study = list(base = c(data = "data.csv", treatment = "joined", outcome = "income", covariates = "[boat, past]"), lines = "study: FLOW"),
    score = list(lines = step("", "score")), trim = list(lines = step("score, ", "trim")), pair = list(lines = step("score, ", "pair")),
    group = list(lines = step("score, ", "group")), stratify = list(lines = step("score, ", "stratify")),
    search = list(base = c(population = "10", generations = "1"), lines = step("score, ", "search")),
    weigh = list(lines = step("score, ", "weigh")), respond = list(base = c(outcome = "known"), lines = step("score, weigh, ", "respond")),
    effect = list(base = c(design = "d"), lines = c(weighed, "effects: {e: FLOW}")),
    hazard = list(base = c(design = "d", measure = "hazard", time = "months", event = "left"), lines = c(weighed, "effects: {e: FLOW}")),
    response = list(base = c(measure = "response"), lines = c(dose, "effects: {e: FLOW}")),
    course = list(base = c(measure = "course", design = "w"), lines = c(course, "effects: {e: FLOW}")),
    power = list(base = c(design = "d"), lines = c(weighed, "power: {p: FLOW}")),
    variation = list(base = c(design = "d", learners = "logit", folds = "3"), lines = c(weighed, "variation: {v: FLOW}")),
    report = list(lines = c(measured, "report: FLOW")), groups = list(lines = c(study, "report: {groups: FLOW}")),
    panel = list(base = c(data = "panel.csv", outcome = "price", time = "year", unit = "harbour", treatment = "open"), lines = "panel: FLOW"),
    baseline = list(lines = c(panel, "baseline: FLOW", "designs: {w: [{weigh: {method: entropy}}]}", "effects: {e: {design: w}}")),
    composition = list(lines = c(sub("}", ", covariates: [tide]}", panel), "composition: FLOW")),
    trends = list(lines = c(panel, "trends: FLOW")), decompose = list(lines = c(panel, "decompose: FLOW")),
    did = list(lines = c(panel, "effects: {e: FLOW}")), panel_report = list(lines = c(panel, "effects: {e: {}}", "report: FLOW"))
  )
  about <- c(pairs = "q", omitted = "r")
  for (kind in setdiff(names(plan_keys()$probes), c("trends", "stability", "stand_ins"))) {
    effect <- if (kind %in% names(about)) about[[kind]] else "e"
    parts[[paste0("probes.", kind)]] <- list(base = c(probe = kind, effect = effect, if (kind %in% c("effect", "weights")) c(draws = "10"),
                                                      if (kind == "placebo") c(outcomes = "[months]")),
                                             lines = c(measured, "probes: {x: FLOW}"))
  }
  parts
}

plan_places <- function() {
  keys <- plan_keys()
  keys <- c(keys[setdiff(names(keys), c("top", "panel_top", "probes"))], stats::setNames(keys$probes, paste0("probes.", names(keys$probes))))
  known <- names(plan_settings())
  do.call(rbind, lapply(intersect(names(keys), known), function(part) {
    expand.grid(part = part, key = keys[[part]], value = bad_yaml(), stringsAsFactors = FALSE)
  }))
}

# The folder in which all of them are tried.
plan_fuzz_folder <- function() {
  folder <- tempfile("keys")
  dir.create(folder)
  data <- more_outcomes(120, seed = 4)
  data$known <- ifelse(seq_len(120) %% 9 == 0, NA, data$income)
  data.table::fwrite(data, file.path(folder, "data.csv"))
  data.table::fwrite(many_harbours(12), file.path(folder, "panel.csv"))
  data.table::fwrite(fuzz_calls()$frame_course$data, file.path(folder, "course.csv"))
  folder
}

# "error" (classed), "fine" or "raw: ...".
try_plan_key <- function(folder, part, key, value, settings = plan_settings(), seconds = 20) {
  map <- settings[[part]]$base
  map[[key]] <- value
  flow <- sprintf("{%s}", paste(names(map), map, sep = ": ", collapse = ", "))
  file <- tempfile("plan", folder, ".yml")
  on.exit(unlink(file))
  writeLines(sub("FLOW", flow, settings[[part]]$lines, fixed = TRUE), file)
  result <- tryCatch(suppressMessages(suppressWarnings({
    setTimeLimit(elapsed = seconds, transient = TRUE)
    run_plan_parts(read_plan(file))
    "fine"
  })), twin_error = function(e) "error", error = function(e) paste("raw:", gsub("\\s+", " ", conditionMessage(e))))
  setTimeLimit()
  result
}

# A plan without its pages and files.
run_plan_parts <- function(plan) {
  if (is_panel_plan(plan)) {
    panel <- plan_panel(plan)
    plan_part(plan, "composition", assess_composition, panel)
    plan_part(plan, "trends", assess_trends, panel)
    plan_part(plan, "decompose", decompose_did, panel)
    shown <- lapply(plan_panel_effects(plan, panel), `[[`, "shown")
    return(at_place(plan, c("report", "truth"), check_truth(unlist(plan$report$truth), shown, call = NULL)))
  }
  study <- plan_study(plan)
  plan_groups(plan, study_of(study))
  made <- plan_designs(plan, study)
  designs <- two_arm_designs(made)
  plan_balances(plan, designs)
  plan_powers(plan, study, designs)
  plan_variations(plan, study, designs)
  effects <- plan_effects(plan, study, made)
  at_place(plan, c("report", "truth"), check_truth(unlist(plan$report$truth), effects, call = NULL))
  plan_probe_results(plan, effects)
}
