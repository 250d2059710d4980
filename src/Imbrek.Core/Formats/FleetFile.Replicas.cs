using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Formats;

/// <content>Reads replicas and groups.</content>
public static partial class FleetFile
{
    private sealed partial class Reader
    {
        private Replica? ReadReplica(LocatedJson j)
        {
            var mode = j.Choice("mode", ReplicaModes);
            var place = ReadPlace(j, mode == ReplicaMode.Array);
            var stages = j.Object("stages") is { } own ? ReadStages(own) : null;
            if (mode is { } known && (known == ReplicaMode.Shipped) != j.Has("stages"))
            {
                j.FaultAt("stages", known == ReplicaMode.Shipped ? "is missing; mode shipped has three" : "are of mode shipped alone");
            }

            var database = Ref(j, "database", databases, "database");
            var from = Ref(j, "from", replicas, "replica", false);
            if (mode is null || place is null || database is null)
            {
                return null;
            }

            var replica = FleetMembers.Replicas.Read(j, new Replica
            {
                Id = new(Id(j)),
                Database = new(database),
                Place = place,
                From = from is null ? null : new Id<Replica>(from),
                Mode = mode.Value,
                Stages = stages,
            });
            if (replica.Until <= replica.Since)
            {
                j.FaultAt("until", "is not after since");
            }

            return replica;
        }

        private ReplicaPlace? ReadPlace(LocatedJson j, bool onArray)
        {
            var host = Ref(j, "host", hosts, "host", false);
            var array = Ref(j, "array", arrays, "array", false);
            var opensOn = Refs(j, "opensOn", hosts, "host");
            if (host is not null && array is not null)
            {
                j.FaultAt("host", "and array are both given; a replica lies on one of them");
            }
            else if (onArray && array is null)
            {
                j.FaultAt("array", "is missing; mode array lies on one");
            }
            else if (onArray && opensOn.Count == 0)
            {
                j.FaultAt("opensOn", "is missing; mode array names at least one host that can open it");
            }
            else if (!onArray && (array is not null || opensOn.Count > 0))
            {
                j.FaultAt(array is not null ? "array" : "opensOn", "is of mode array alone");
            }
            else if (host is null && array is null)
            {
                j.FaultAt("host", "is missing");
            }
            else
            {
                return array is not null ? new ReplicaPlace.OnArray(new(array), [.. opensOn.Select(h => new Id<Host>(h))]) : new ReplicaPlace.OnHost(new(host!));
            }

            return null;
        }

        private static ShippingStages ReadStages(LocatedJson j)
        {
            var stages = new ShippingStages(Stage("backup"), Stage("copy"), Stage("apply"), j.Seconds("keepAtSourceSeconds"), j.Seconds("keepHereSeconds"));
            j.WarnOfUnknown();
            return stages;

            ShippingStage Stage(string name)
            {
                if (j.Object(name) is not { } own)
                {
                    if (!j.Has(name))
                    {
                        j.FaultAt(name, "is missing; expected everySeconds and takesSeconds");
                    }

                    return default;
                }

                var stage = new ShippingStage(own.Seconds("everySeconds", true) ?? 0, own.Seconds("takesSeconds", true) ?? 0);
                own.WarnOfUnknown();
                return stage;
            }
        }

        private List<ReplicaGroup> ReadGroups(IReadOnlyList<LocatedJson> items)
        {
            var (inGroup, groups) = (new Dictionary<string, string>(), new List<ReplicaGroup>());
            foreach (var j in items)
            {
                var members = Refs(j, "databases", databases, "database").Distinct().ToArray();
                foreach (var d in members.Where(d => !inGroup.TryAdd(d, Id(j))))
                {
                    j.FaultAt("databases", $"'{d}' is in group '{inGroup[d]}' already");
                }

                groups.Add(FleetMembers.Groups.Read(j, new ReplicaGroup(
                    new(Id(j)), Name(j), [.. members.Select(d => new Id<Database>(d))], [.. Refs(j, "voters", hosts, "host").Distinct().Select(h => new Id<Host>(h))])));
            }

            return groups;
        }

        /// <summary>What feeds a replica is of the same database, and does not come back to it.</summary>
        private static void CheckFeeders(IReadOnlyList<LocatedJson> items, Replica?[] read)
        {
            var byId = read.OfType<Replica>().DistinctBy(r => r.Id).ToDictionary(r => r.Id);
            for (var i = 0; i < read.Length; i++)
            {
                if (read[i] is not { From: { } first } replica || !byId.TryGetValue(first, out var feeder))
                {
                    continue;
                }

                if (feeder.Database != replica.Database)
                {
                    items[i].FaultAt("from", $"'{first}' is a replica of {feeder.Database}");
                }

                var at = feeder;
                for (var steps = 1; at is not null; steps++)
                {
                    if (at.Id == replica.Id || steps > InputBounds.Feeders)
                    {
                        items[i].FaultAt("from", at.Id == replica.Id ? "leads back to the replica itself" : $"leads over more than {InputBounds.Feeders} others to the primary, if to it at all");
                        break;
                    }

                    at = at.From is { } next ? byId.GetValueOrDefault(next) : null;
                }
            }
        }

        /// <summary>An array is opened by hosts of its own site.</summary>
        private static void CheckOpeners(IReadOnlyList<LocatedJson> items, Replica?[] read, Host[] hosts, StorageArray[] arrays)
        {
            var siteOf = hosts.DistinctBy(h => h.Id).ToDictionary(h => h.Id, h => h.Site);
            for (var i = 0; i < read.Length; i++)
            {
                if (read[i]?.Place is ReplicaPlace.OnArray place && Array.Find(arrays, a => a.Id == place.Array) is { } array)
                {
                    foreach (var far in place.OpensOn.Where(h => siteOf.TryGetValue(h, out var site) && site != array.Site))
                    {
                        items[i].FaultAt("opensOn", $"host '{far}' is in another site than array '{array.Id}'");
                    }
                }
            }
        }
    }
}
