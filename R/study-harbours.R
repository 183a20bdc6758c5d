#' Harbours over time, some of which open a cold store
#'
#' A made-up panel: 60 small harbours in 16 quarters. Cold stores open in four waves, in 18 harbours never. What they do
#' to the price of fish grows with the quarters since the opening, and is larger in the early waves, so that one two-way
#' regression gets it wrong. Prices also drift apart a little with the distance to the market. Simulated by
#' `data-raw/harbours.R`; the true effects are in [harbours_truth].
#'
#' @format A data frame with one row per harbour and quarter:
#' \describe{
#'   \item{harbour}{the unit: 60 of them}
#'   \item{quarter}{"2021Q1" to "2024Q4"}
#'   \item{coast}{four coasts of 15 harbours}
#'   \item{boats}{boats of the harbour, constant over time}
#'   \item{market_km}{distance to the nearest market, kilometres}
#'   \item{opened}{quarter in which its cold store opens, NA where none does}
#'   \item{cold_store}{treatment: TRUE from that quarter on}
#'   \item{price}{outcome: price of a kilo, shells}
#' }
#' @family data
#' @examples
#' table(harbours$opened, useNA = "ifany") / 16
"harbours"

#' Catches of crews met at the quay
#'
#' A made-up repeated cross-section: in every quarter other crews of the harbours of [harbours] are asked. Those who
#' sell fresh gain from the cold store; those who salt their fish do not, but feel the same ups and downs of their
#' harbour. Simulated by `data-raw/harbours.R`; the true effects are in [harbours_truth].
#'
#' @format A data frame with one row per crew:
#' \describe{
#'   \item{harbour, quarter}{where and when}
#'   \item{cold_store}{treatment: TRUE when the harbour has a cold store}
#'   \item{fresh}{TRUE for crews who sell fresh}
#'   \item{boat_length}{length of the boat, metres}
#'   \item{gear}{"nets", "lines" or "pots"}
#'   \item{catch_value}{outcome: value of the day's catch, shells}
#' }
#' @family data
#' @examples
#' table(landings$fresh, landings$cold_store)
"landings"

#' True effects in the harbours and landings data
#'
#' @format A data frame: `data`, `over` ("all", "event": periods since the opening, "cohort": quarter of the opening),
#' `at`
#'   and `truth`, the mean of the simulated effects over the treated rows.
#' @family data
#' @examples
#' subset(harbours_truth, over == "all")
"harbours_truth"

#' Boats that hire an ice machine, and give it back
#'
#' A made-up panel: 150 boats in 10 seasons. Some hire an ice machine for one season, two, or for good; owners of one
#' lay it up for as long. A machine adds 1.5 tonnes to a season's catch and 0.6 to the next one. Boats that own a
#' machine catch more every year whatever they do, so that only boats that began alike can be compared. New engines of
#' different power come to some boats, for good: what they save grows with the power, and less and less. Simulated by
#' `data-raw/boats.R`; the true effects are in [boats_truth].
#'
#' @format A data frame with one row per boat and season:
#' \describe{
#'   \item{boat}{the unit: 150 of them}
#'   \item{port}{25 ports}
#'   \item{season}{2016 to 2025}
#'   \item{boat_length}{length of the boat, metres, constant over time}
#'   \item{ice_machine}{treatment: TRUE in seasons with an ice machine on board}
#'   \item{catch}{outcome: catch of the season, tonnes}
#'   \item{engine_kw}{another treatment, in doses: power of the new engine, kW; 0 before there is one}
#'   \item{fuel}{its outcome: fuel burnt for a tonne of fish, litres}
#' }
#' @family data
#' @examples
#' table(boats$season, boats$ice_machine)
"boats"

#' True effects in the boats data
#'
#' @format A data frame: `outcome`, `over`, `at` and `truth`. Of `catch`, over "event" (seasons since the first change)
#'   and "all": what the change and everything since moved it by, in the direction of the first change, on average over
#'   boats that changed. Of `fuel`, over "dose" (power of the engine) and "all" what the engine moved it by, over
#'   "slope" by how much more of it one more kW did.
#' @family data
#' @examples
#' boats_truth
"boats_truth"
