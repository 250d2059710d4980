using Npgsql;

namespace Imbrek.Server;

/// <summary>What may live in a server's process beside it, such as the simulated world of a demo. A real installation has none.</summary>
internal interface IGuest
{
    /// <summary>Whether what is shown is a demo: its sign-ins are known to everybody.</summary>
    bool IsDemo { get; }

    /// <summary>Whether it leads the clock, has the dispatcher decide step by step, and has a fleet that nobody else changes.</summary>
    bool SetsThePace { get; }

    /// <summary>Seconds of the product's clock a second of the machine's.</summary>
    double Pace { get; }

    /// <summary>Whether it can be used.</summary>
    bool Ready { get; }

    /// <summary>Adds its parts.</summary>
    /// <param name="services">Where to.</param>
    /// <param name="describing">Whether the server is only described, and nothing may be started.</param>
    void Add(IServiceCollection services, bool describing);

    /// <summary>Adds its endpoints.</summary>
    void Map(IEndpointRouteBuilder app);

    /// <summary>Makes what must be there before anybody is answered.</summary>
    Task PrepareAsync(IServiceProvider services, NpgsqlDataSource source, Action<string> say, CancellationToken cancel);
}

/// <summary>Nobody.</summary>
internal sealed class NoGuest : IGuest
{
    public bool IsDemo => false;

    public bool SetsThePace => false;

    public double Pace => 1;

    public bool Ready => true;

    public void Add(IServiceCollection services, bool describing)
    {
    }

    public void Map(IEndpointRouteBuilder app)
    {
    }

    public Task PrepareAsync(IServiceProvider services, NpgsqlDataSource source, Action<string> say, CancellationToken cancel) => Task.CompletedTask;
}
