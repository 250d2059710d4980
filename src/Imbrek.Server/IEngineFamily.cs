namespace Imbrek.Server;

/// <summary>A family of engines that an installation has drivers for: one project each.</summary>
internal interface IEngineFamily
{
    /// <summary>Adds its parts.</summary>
    /// <param name="services">Where to.</param>
    /// <param name="describing">Whether the server is only described, and nothing may be started.</param>
    void Add(IServiceCollection services, bool describing);

    /// <summary>Adds its endpoints.</summary>
    void Map(IEndpointRouteBuilder app);

    /// <summary>Reads what it must know before anybody is answered.</summary>
    Task PrepareAsync(IServiceProvider services, CancellationToken cancel);
}
