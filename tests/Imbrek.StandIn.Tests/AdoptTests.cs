using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>What was restored becomes a database of its own: it goes on from what was there, once, under its own names, also after the process dies.</summary>
public sealed class AdoptTests : LiveWorld
{
    private static readonly Id<Database> Second = new("customs-two");
    private static readonly Id<Host> Host = new("quay-h1");

    private static Database Part(World world) => world.Fleet.DatabaseById[Customs] with { Id = Second, Name = "Customs, the second", Host = Host, Service = null, Branches = [] };

    private static (InstanceSpec Instance, MappedName[] Names) Restored(World world, RunCall call, Instant to)
    {
        var instance = new InstanceSpec($"second-{call.Run:n}"[..14], Customs, Host, call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, instance, world[Customs].StateAt(to.ToUnixTimeMilliseconds(), 1), to.ToUnixTimeMilliseconds(), 1);
        }

        var names = new StandInCreateDriver(world).NamesAsync(Customs, Host, default).Result;
        return (instance, [.. names.Held.Select(n => new MappedName(n.Kind, n.Name, $"{n.Name}-two"))]);
    }

    private static Task<Moved> AdoptAsync(World world, RunCall call, InstanceSpec instance, IReadOnlyList<MappedName> names, Database? part = null) =>
        AnsweredAsync(world, new StandInCreateDriver(world).AdoptAsync(call, instance, part ?? Part(world), names, default));

    [Fact]
    public async Task It_begins_with_what_was_restored_and_goes_on_beside_the_first()
    {
        var world = Live();
        Pass(world, 600);
        var (call, then) = (new RunCall(Guid.NewGuid(), 1), world.Now - Duration.FromMinutes(30));
        var (instance, names) = Restored(world, call, then);
        Assert.Equal(4, names.Length);
        var adopted = await AdoptAsync(world, call, instance, names);
        Assert.True(adopted.Seconds > 0);
        Assert.Null(new StandInDriver(world).Load(instance));
        string Digest(Id<Database> id, Instant? at = null)
        {
            lock (world.Gate)
            {
                world.Live(world[id]);
                return at is { } t ? world[id].StateAt(t.ToUnixTimeMilliseconds()).Digest() : world[id].Image.Digest();
            }
        }

        Assert.Equal(Digest(Customs, then), Digest(Second, world.Now));
        Assert.Equal(Digest(Customs, then), Digest(Second));

        // Both live; positions go on, and no commit of the second is older than it.
        var first = world[Second].Image.Position;
        Pass(world, 300);
        Assert.NotEqual(Digest(Second), Digest(Customs));
        Assert.True(world[Second].Image.Position > first);
        Assert.True(world[Second].Image.Time > world[Second].Birth!.At);
        Assert.Equal(Digest(Second), Digest(Second, world.Now));
        var lives = Digest(Second);

        // After the process dies it is there with all it held; asked again, it says so and makes nothing.
        world = Again();
        Assert.Equal(lives, Digest(Second, world.Now));
        await AdoptAsync(world, call with { Fence = 2 }, instance, names);
        Assert.Equal(lives, Digest(Second, Instant.FromUnixTimeMilliseconds(world[Second].Image.Time)));

        // Its names are taken from then on, and it brings those that it got.
        var now = await new StandInCreateDriver(world).NamesAsync(Second, Host, default);
        Assert.Equal(names.Select(n => n.To), now.Held.Select(h => h.Name));
        Assert.Contains(now.Taken, t => t.Name == names[0].To && t.By == "Customs, the second");
    }

    [Fact]
    public async Task Killed_at_any_moment_it_is_there_whole_or_not_at_all()
    {
        var world = Live();
        Pass(world, 300);
        var (call, then) = (new RunCall(Guid.NewGuid(), 1), world.Now - Duration.FromMinutes(10));
        var (instance, names) = Restored(world, call, then);
        world.KeepAndAnswer();
        var call1 = new StandInCreateDriver(world).AdoptAsync(call, instance, Part(world), names, default);
        var not = 0;
        using (world.Engage("a test"))
        {
            for (var i = 0; i < 20 && !call1.IsCompleted; i++)
            {
                var killed = AsIfKilled();
                if (!killed.Has(Second))
                {
                    not++;

                    // Whoever takes it up finds what was restored, and makes it.
                    await AdoptAsync(killed, call with { Fence = 2 }, instance, names);
                }

                killed.Live(killed[Second]);
                Assert.Equal(killed[Second].StateAt(killed.NowMs).Digest(), killed[Second].Image.Digest());
                world.Advance(world.Now + Duration.FromSeconds(2), evenIfSomebodyThinks: true);
                world.KeepAndAnswer();
            }
        }

        await call1;
        Assert.True(not > 0);
        Assert.True(AsIfKilled().Has(Second));
    }

    [Fact]
    public async Task What_is_taken_meanwhile_or_is_not_as_it_was_mapped_is_refused_and_nothing_is_made()
    {
        var world = Live();
        Pass(world, 300);
        var call = new RunCall(Guid.NewGuid(), 1);
        var (instance, names) = Restored(world, call, world.Now - Duration.FromMinutes(10));
        async Task RefusedAsync(IReadOnlyList<MappedName> said, string why, Database? part = null)
        {
            var e = await Assert.ThrowsAsync<DriverException>(() => AdoptAsync(world, call, instance, said, part));
            Assert.Equal(DriverProblem.Refused, e.Problem);
            Assert.Contains(why, e.Message, StringComparison.Ordinal);
            Assert.False(world.Has(Second));
            Assert.NotNull(new StandInDriver(world).Load(instance));
        }

        await RefusedAsync([.. names.Select(n => n with { To = n.From })], "already: Customs papers");
        await RefusedAsync(names[1..], "other names");
        await RefusedAsync(names, "is not open", Part(world) with { Host = new("hill-h1") });
        await AdoptAsync(world, call, instance, names);

        // Another run cannot have the name, and taken back it is gone with what it began with.
        var other = new RunCall(Guid.NewGuid(), 1);
        var (again, same) = Restored(world, other, world.Now - Duration.FromMinutes(10));
        Assert.Contains("there is a database customs-two already", (await Assert.ThrowsAsync<DriverException>(() => AdoptAsync(world, other, again, same))).Message, StringComparison.Ordinal);
        await AnsweredAsync(world, Done(new StandInCreateDriver(world).DropAsync(other, Second, default)));
        Assert.True(world.Has(Second));
        await AnsweredAsync(world, Done(new StandInCreateDriver(world).DropAsync(call, Second, default)));
        world = Again();
        Assert.False(world.Has(Second));
        Assert.Empty(Directory.GetFiles(Path.Combine(world.Folder, "begun-with")));

        static async Task<int> Done(Task task)
        {
            await task;
            return 0;
        }
    }
}
