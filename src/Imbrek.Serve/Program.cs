// A real installation: the server with every family of engines it can act on, and no guest.
return await Imbrek.Server.ImbrekServer.RunAsync(args, [new Imbrek.PostgreSql.Serving.PostgreSqlEngine()]);
