"""The cluster ``oxbow`` of the Oxbow Institute, which studies a river and its estuary. All of it is made up."""

from datetime import UTC, datetime
from pathlib import Path

from lazy_quarry.core.site import (
    Account,
    Closure,
    Limits,
    Node,
    Queue,
    Rates,
    Site,
    Software,
    StorageArea,
    Tier,
    Window,
)
from lazy_quarry.core.units import DAY_MS, HOUR_MS

BEGINS_MS = round(datetime(2027, 3, 1, 9, 42, tzinfo=UTC).timestamp() * 1000)
"""The demo begins on this Monday morning, whatever the real date."""
YOU = "tove"
HEAD = "ilse"
"""Who runs the site."""
USERS = ("tove", "imre", "salka", "bram", "noor", "ilse", "wren")

_GIB = 1024
_HOUR_S = 3600

SOFTWARE = (
    Software("mpi/5.0", ("mpirun", "mpiexec", "mpicc", "mpifort"), "message passing between ranks"),
    Software("surge/2.1", ("surge", "surge-mesh", "surge-plot"), "storm surge in the estuary"),
    Software("surge/2.0", ("surge", "surge-mesh"), "storm surge, as in last year's report"),
    Software("netcdf/4.9", ("ncdump", "nccopy", "ncgen"), "gridded data files"),
    Software("python/3.12", ("python3", "python", "pip"), "with the institute's packages"),
    Software("tracks/1.3", ("tracks", "tracks-merge"), "tracks of tagged eels"),
    Software("kelp/0.9", ("kelp", "kelp-train"), "growth models fitted to images"),
    Software("cuda/13.0", ("nvcc",), "for programs on GPUs"),
    Software("gcc/15.1", ("gcc", "g++", "gfortran"), "compilers"),
    Software("gmt/6.6", ("gmt",), "maps"),
)


def oxbow() -> Site:
    """The site as it stands on that morning."""
    tidal = tuple(f"c{number:02d}" for number in range(1, 25))
    deep = tuple(f"m{number:02d}" for number in range(1, 5))
    lantern = tuple(f"g{number:02d}" for number in range(1, 5))
    nodes = [Node(name, 32, 128 * _GIB, scratch_mib=800 * _GIB, traits=("avx512", "fabric")) for name in tidal]
    nodes += [Node(name, 64, 1024 * _GIB, scratch_mib=3200 * _GIB, traits=("bigmem", "avx512")) for name in deep]
    nodes += [
        Node(name, 32, 256 * _GIB, gpus=4, gpu_memory_mib=48 * _GIB, scratch_mib=1600 * _GIB, traits=("fabric", "gpu"))
        for name in lantern
    ]
    nodes.append(Node("ford", 16, 64 * _GIB, runs_jobs=False))
    wednesday = BEGINS_MS - BEGINS_MS % DAY_MS + 2 * DAY_MS
    return Site(
        name="oxbow",
        kind="rehearsal",
        nodes=tuple(nodes),
        queues=(
            Queue("tidal", tidal, 72 * _HOUR_S, 2 * _HOUR_S, 2 * _GIB, max_cores=512, note="MPI and most else"),
            Queue("deep", deep, 168 * _HOUR_S, 4 * _HOUR_S, 8 * _GIB, note="for much memory"),
            Queue("lantern", lantern, 48 * _HOUR_S, 2 * _HOUR_S, 4 * _GIB, note="for GPUs"),
            Queue("trial", tidal[22:], 1800, 600, 2 * _GIB, max_cores=32, tier="trial", note="short tries, soon"),
        ),
        accounts=(
            Account("estuary", 1_050_000, ("ilse",), target=0, leads=("ilse",)),
            Account("tide-surge", 560_000, ("tove", "imre", "salka"), target=4, parent="estuary", leads=("tove",)),
            Account("eel-tracks", 120_000, ("tove", "noor", "wren"), target=2, leads=("noor",)),
            Account(
                "kelp-fit",
                160_000,
                ("bram", "ilse"),
                target=2,
                leads=("bram",),
                mail="bram@oxbow.example",
                at_end="give-way",
            ),
            Account("silt", 420_000, ("ilse", "salka", "noor"), target=3, parent="estuary"),
            Account("commons", 30_000, limits=Limits(cores=64), budget_each="month"),
        ),
        tiers=(
            Tier("steady", 1000, note="the usual"),
            Tier(
                "urgent", 2000, ("tove", "imre", "bram"), 24 * _HOUR_S, "sooner", standing_h=6, limits=Limits(cores=256)
            ),
            Tier("trial", 0, walltime_limit_s=1800, note="short tries", standing_h=2),
            Tier("spare", 500, note="gives way, then runs again", gives_way=True),
        ),
        default_queue="tidal",
        default_tier="steady",
        windows=(
            Window(tidal, wednesday + 6 * HOUR_MS, wednesday + 12 * HOUR_MS, "new firmware for the fabric switches"),
        ),
        closures=(Closure("c17", "memory errors in slot B2; a new module comes on Thursday"),),
        software=SOFTWARE,
        storage=(
            StorageArea("/home", "50 GiB for each person", kept=True),
            StorageArea("/flow", "results move to /home by hand", heavy=True),
            StorageArea("/scratch", "gone when the job ends", shared=False, heavy=True),
        ),
        examples=str(Path(__file__).parent / "examples"),
        trial="trial",
        host="oxbow-head",
        head="Ilse Marrow",
        contact="help@oxbow.example",
        user_limits=(("", Limits(running_jobs=40, waiting_jobs=50)),),
        rates=Rates(sizes=tuple((name, 48) for name in lantern), free=("lost", "gave-way")),
        default_accounts=tuple(
            zip(
                USERS,
                ("tide-surge", "tide-surge", "silt", "kelp-fit", "eel-tracks", "kelp-fit", "eel-tracks"),
                strict=True,
            )
        ),
    )
