"""Invented names of the demo: places, venues, people, makers and things."""

PLACES = (
    "Harbour", "Pier", "Old Customs", "Mill House", "Net Loft", "Brackwater", "Tolsery", "Merrin Head",
    "Sandlow", "Ostrey", "Kelmarrow", "Varnepoint", "Pellick", "Dunselby", "Quaymarsh", "Gullane Rock",
    "Withersea", "Lampreth", "Cawdle", "Ebbrick", "Fennimouth", "Skerrow", "Tarnwick Bay", "Morrowby",
    "Saltern", "Hollowmere", "Anchorby", "Windlestow", "Reedham Spit", "Corvick", "Petrelstone",
    "Barnacle Row", "Lugger", "Strandholm", "Osmery", "Thrushel", "Yarrowfleet", "Beaconby", "Limpet",
    "Marlhythe", "Seldom Cove", "Northstrand", "Ropewalk", "Tidewell", "Lanternhead",
)  # fmt: skip
KINDS_OF_VENUE = ("Museum", "Gallery", "Hall", "Library", "House", "Centre")
REGIONS = ("North", "Middle", "South", "Islands")
FIRST_NAMES = (
    "Ada", "Bram", "Cora", "Dorrit", "Edwy", "Fenna", "Gil", "Hester", "Ivo", "Jory", "Kitto", "Lowen",
    "Merryn", "Nessa", "Orla", "Perran", "Quill", "Rowan", "Senara", "Tamsin", "Ursel", "Wilmot",
)  # fmt: skip
LAST_NAMES = (
    "Trewin", "Pell", "Orrin", "Ashlock", "Brindle", "Carrow", "Dunnick", "Embery", "Farrant", "Gannick",
    "Hallow", "Isbell", "Jessop-Ray", "Kerrick", "Lannow", "Marlow-Finch", "Nance", "Odgers", "Penrice",
    "Quick", "Roskell", "Sparrick", "Tolley", "Uren", "Vosper", "Wearn",
)  # fmt: skip
THINGS = (
    "sextant", "net mender", "cork float", "ship's lamp", "figurehead", "sea chest", "telescope", "bell",
    "rope sample", "log book", "chart", "model lugger", "oilskin", "harpoon", "tide table", "compass",
    "barometer", "shell box", "painted jug", "quilt", "watercolour", "portrait", "pilot's badge", "lantern",
)  # fmt: skip
QUALITIES = (
    "Brass", "Painted", "Carved", "Small", "Large", "Gilded", "Worn", "Blue", "Early", "Late", "Iron",
    "Glass", "Silver", "Wooden", "Embroidered", "Broken", "Ceremonial", "Harbour master's", "Children's",
    "Unfinished",
)  # fmt: skip
CONDITIONS = ("good", "good", "good", "good", "scuffed", "label lost", "chipped")
WORKSHOPS = ("Ropewalk Workshop", "Pupils of Ostrey School", "Boatyard of Skerrow", "a sailor's wife")
STATUSES = ("open", "returned", "returned", "returned", "extended")
