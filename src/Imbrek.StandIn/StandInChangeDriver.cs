using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn;

/// <summary>Carries changes out in the simulated world, on copies and on its databases: rows are really written, and a move to another version leaves the engine without statistics, so that it answers slowly until they are collected.</summary>
/// <param name="world">The world.</param>
public sealed class StandInChangeDriver(World world) : IChangeDriver
{
    /// <summary>A query reads this share of a database; without statistics it takes so many times as long.</summary>
    private const double QueryShare = 0.001, WithoutStatistics = 6, ShortestQuerySeconds = 0.005;

    /// <summary>Of a move to another version: the share of the database that is rewritten.</summary>
    private const double UpgradeShare = 0.5;

    private const int LongestAnswer = 200;

    /// <summary>On a database itself each part is a call of its own, which the world answers once.</summary>
    private const int FirstPart = 10;

    private readonly StandInDriver copies = new(world);

    /// <summary>The statements a change may have.</summary>
    public const string Help = WorldStatement.Help;

    /// <inheritdoc/>
    public async Task<ChangeLook> LookAsync(RunCall call, ChangeTarget target, IReadOnlyList<NamedQuery> queries, CancellationToken cancel)
    {
        var (d, host) = (world.Fleet.DatabaseById[target.Database], HostOf(target));
        var without = target.Aside is { } a ? copies.Require(call, a).NoStatistics : world[target.Database].NoStatistics;
        var each = queries.Select((q, i) => QuerySeconds(d, host, without) * StandInDriver.Noise(target.Aside ?? Live(target), 20 + i)).ToArray();
        return await world.Answers.ActAsync(
            call,
            Math.Max(1, d.CheckSeconds / 2) + each.Sum(),
            () =>
            {
                if (world.Faults.IsDown(host.Id))
                {
                    throw new DriverException(DriverProblem.Unreachable, $"host {host.Id} does not answer");
                }

                var live = world[target.Database];
                world.Live(live);
                var image = target.Aside is { } aside ? copies.LoadImage(aside) ?? throw new DriverException(DriverProblem.Refused, "the instance holds nothing") : live.Image;
                return new ChangeLook(
                    world.Now,
                    target.Aside is { } there ? copies.Require(call, there).Version ?? live.Database.Version : live.Database.Version,
                    [new("rows", image.Rows.LongCount(r => r != 0)), new("markers", image.Markers.Count)],
                    [.. queries.Select((q, i) => Ask(q, image, each[i]))],
                    null);
            },
            cancel);
    }

    /// <inheritdoc/>
    public async Task<PartDone> DoAsync(RunCall call, ChangeTarget target, int number, int round, ChangePart part, CancellationToken cancel)
    {
        var (d, host) = (world.Fleet.DatabaseById[target.Database], HostOf(target));
        var engine = world.Fleet.Engines[d.Engine];
        if (target.Aside is { } made && copies.Require(call, made).Parts?.GetValueOrDefault(number) is { } before)
        {
            return JsonSerializer.Deserialize<KeptPart>(before)!.ToPart();
        }

        if (target.Aside is null)
        {
            call = call.Part(FirstPart + number);
            if (world.Answers.Told(call) is { } told)
            {
                return JsonSerializer.Deserialize<KeptPart>(told)!.ToPart();
            }
        }

        var rows = world[target.Database].Image.Rows.Length;
        var statements = part.Statements.Select(s => WorldStatement.Read(s, rows) ?? throw new DriverException(DriverProblem.Refused, $"\"{s}\" cannot be carried out; the stand-in knows: {WorldStatement.Help}")).ToArray();
        if (part.UpgradesTo is { } to)
        {
            WhyNotTo(to, target.Aside is { } aside ? copies.Require(call, aside).Version ?? d.Version : d.Version, host);
        }

        var noise = StandInDriver.Noise(target.Aside ?? Live(target), 40 + number);
        var seconds = statements.Select(s => s.Seconds(d, engine, host) * noise).ToArray();
        var all = seconds.Sum() + (part.UpgradesTo is null ? 0 : (engine.ProvisionSeconds + engine.OpenSeconds + (UpgradeShare * d.SizeBytes / Math.Min(host.WriteBytesPerSecond, engine.RestoreBytesPerSecond))) * noise);
        return (await world.Answers.ActAsync(
            call,
            all,
            () =>
            {
                if (world.Faults.IsDown(host.Id))
                {
                    throw new DriverException(DriverProblem.Unreachable, $"host {host.Id} does not answer");
                }

                var done = new KeptPart(all, [.. part.Statements.Zip(seconds, statements).Select(x => new StatementTook(x.First, x.Second, x.Third.Said))], part.UpgradesTo, null, null);
                return target.Aside is { } there ? OnCopy(call, there, number, part, statements, done) : OnDatabase(call, target.Database, part, statements, done);
            },
            cancel)).ToPart();
    }

    private static InstanceSpec Live(ChangeTarget target) => new(target.Database.Value, target.Database, new(""), Guid.Empty);

    private static void WhyNotTo(string to, string? from, Host host)
    {
        if (from is not null && (from == to || (decimal.TryParse(from, CultureInfo.InvariantCulture, out var was) && decimal.TryParse(to, CultureInfo.InvariantCulture, out var next) && next <= was)))
        {
            throw new DriverException(DriverProblem.Refused, $"version {to} is not later than {from}, which runs");
        }

        if (host.Versions.Count > 0 && !host.Versions.Contains(to))
        {
            throw new DriverException(DriverProblem.Refused, $"version {to} is not installed on {host.Id}");
        }
    }

    private Host HostOf(ChangeTarget target) => world.Fleet.Hosts[target.Aside?.Host ?? world.Fleet.DatabaseById[target.Database].Host];

    private double QuerySeconds(Database d, Host host, bool withoutStatistics) =>
        Math.Max(ShortestQuerySeconds, QueryShare * d.SizeBytes / Math.Min(host.WriteBytesPerSecond, world.Fleet.Engines[d.Engine].RestoreBytesPerSecond)) * (withoutStatistics ? WithoutStatistics : 1);

    private static QueryTook Ask(NamedQuery query, PageImage image, double seconds)
    {
        if (WorldQuery.Rows(query.Query, image, LongestAnswer) is not { } answer)
        {
            return new(query.Name, null, seconds, $"the stand-in answers: {WorldQuery.Help}");
        }

        var text = string.Join("; ", answer.Rows.Select(r => string.Join(',', r)));
        return new(query.Name, text.Length > LongestAnswer ? text[..LongestAnswer] : text, seconds, null);
    }

    private KeptPart OnCopy(RunCall call, InstanceSpec aside, int number, ChangePart part, WorldStatement[] statements, KeptPart done)
    {
        var file = copies.Require(call, aside);
        var image = copies.LoadImage(aside) ?? throw new DriverException(DriverProblem.Refused, "the instance holds nothing to change");
        foreach (var write in statements.SelectMany(s => s.Writes))
        {
            image.Rows[write.Row] = write.Value;
        }

        copies.Save(
            call,
            aside,
            file with
            {
                Version = part.UpgradesTo ?? file.Version,
                NoStatistics = part.UpgradesTo is not null || (file.NoStatistics && !statements.Any(s => s.CollectsStatistics)),
                Parts = new Dictionary<int, string>(file.Parts ?? new Dictionary<int, string>()) { [number] = JsonSerializer.Serialize(done) },
            },
            image);
        return done;
    }

    private KeptPart OnDatabase(RunCall call, Id<Database> database, ChangePart part, WorldStatement[] statements, KeptPart done)
    {
        var d = world[database];
        world.Live(d);
        if (part.UpgradesTo is { } version)
        {
            if (!d.IsStopped)
            {
                throw new DriverException(DriverProblem.Refused, $"somebody writes to {database}; it is moved to another version only while everybody is kept out");
            }

            var branch = d.Upgrade(world.NowMs, version);
            var left = world.Replicas.CannotFollow(d, $"its primary runs version {version}: it must be seeded anew");
            world.Fleet = world.Fleet.With(world.Fleet.Databases.Select(x => x.Id == database ? d.Database : x));
            world.KeepLogs();
            world.Tell(database, "changed", $"moved to version {version}; branch {branch.Id} begins at position {branch.ForkPosition}");
            done = done with { Branch = new(branch.Id, branch.Parent, branch.ForkPosition, branch.ForkAt.ToUnixTimeMilliseconds(), branch.StartsAt.ToUnixTimeMilliseconds()), Left = left };
        }

        for (var i = 0; i < statements.Length; i++)
        {
            d.Commit(world.NowMs, $"{part.Name} {i + 1}", part.Statements[i]);
            d.NoStatistics &= !statements[i].CollectsStatistics;
        }

        world.Answers.Tell(call.Run, JsonSerializer.Serialize(done));
        return done;
    }

    /// <summary>What a part measured, as it is kept.</summary>
    private sealed record KeptPart(double Seconds, IReadOnlyList<StatementTook> Statements, string? Version, WorldState.BranchState? Branch, IReadOnlyList<string>? Left)
    {
        public PartDone ToPart() => new(
            Seconds,
            Statements,
            Version,
            Branch is { } b ? new(b.Id, b.Parent, b.ForkPosition, NodaTime.Instant.FromUnixTimeMilliseconds(b.ForkAt), NodaTime.Instant.FromUnixTimeMilliseconds(b.StartsAt)) : null,
            Left);
    }
}
